/**
 * Collections of records for Kotlin, beside Pantry.kt: each record is an entry of its own.
 *
 *     data class Planting(val crop: String, val bed: String)
 *
 *     object Garden : Keys() {
 *         val plantings by records({ setText("crop", it.crop).setText("bed", it.bed) }) { Planting(text("crop"), text("bed")) }
 *     }
 *     val plantings = pantry[Garden.plantings]
 *     val id = plantings.add(Planting("beans", "C4"))
 *     plantings.flow.onEach { all -> show(all.values) }.launchIn(scope)
 */
package pantry

import kotlinx.coroutines.flow.Flow
import mobile.Mobile
import mobile.Record
import mobile.Texts

/** A collection's key: how a record of the app's own becomes one of the library's, and back. */
class RecordsKey<T> internal constructor(
    val name: String,
    internal val own: mobile.RecordsKey,
    private val into: Record.(T) -> Unit,
    private val out: Record.() -> T,
) {
    internal fun record(x: T): Record = Mobile.newRecord().also { it.into(x) }
    internal fun value(r: Record): T = r.out()
}

/** Declares a collection; out may throw where a record is not one of the app's, which leaves it out. */
fun <T> Keys.records(into: Record.(T) -> Unit, name: String? = null, out: Record.() -> T) =
    Keys.Declaring(name) { n -> RecordsKey(n, keys.records(n), into, out) }

/** The records of ids that are there and can be read, in order. */
internal fun <T> readable(key: RecordsKey<T>, ids: Texts, get: (String) -> Record): Map<String, T> =
    strings(ids).mapNotNull { id -> runCatching { id to key.value(get(id)) }.getOrNull() }.toMap()

/** A collection in a namespace. It may be used by several threads at once. */
class Records<T> internal constructor(private val key: RecordsKey<T>, private val r: mobile.Records) {
    /** All that can be read, by their ids, in order: numbers by their size. It does not wait. */
    val all: Map<String, T> get() = told { readable(key, r.ids(), r::get) }

    /** The record of an id, or null; an exception where it can't be read. */
    operator fun get(id: String): T? = try {
        told { key.value(r.get(id)) }
    } catch (e: PantryException) {
        if (e.code == "absent" && r.ids().let(::strings).none { it == id }) null else throw e
    }

    /** Stores a record under the next number, which is never used again, and returns it. */
    suspend fun add(x: T): String = written { r.add(key.record(x)) }

    /** Stores a record under an id, in place of what was there. */
    suspend fun put(id: String, x: T) = written { r.put(id, key.record(x)) }

    /** Removes a record, if there is one. */
    suspend fun drop(id: String) = written { r.drop(id) }

    suspend fun clear() = written { r.clear() }

    /** All of them now, and after each change, by anybody. */
    val flow: Flow<Map<String, T>> get() = changes(r::watch) { all }
}

operator fun <T> Pantry.get(key: RecordsKey<T>): Records<T> = told { Records(key, key.own.bind(ns)) }

/** In a commit: its calls do not suspend. */
fun <T> Commit.put(key: RecordsKey<T>, id: String, x: T) = told { key.own.`in`(batch).put(id, key.record(x)) }
fun <T> Commit.add(key: RecordsKey<T>, x: T): String = told { key.own.`in`(batch).add(key.record(x)) }
fun Commit.drop(key: RecordsKey<*>, id: String) = told { key.own.`in`(batch).drop(id) }
