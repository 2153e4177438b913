/**
 * Collections of records for Kotlin, beside Pantry.kt: each record is an entry of its own.
 *
 *     data class Planting(val crop: String, val bed: String, val sown: Instant)
 *
 *     object Garden : Declared() {
 *         val plantings by records {
 *             val crop = member(Planting::crop, Kind.text)
 *             val bed = member(Planting::bed, Kind.text, "A1")     // a record without it has A1
 *             val sown = member(Planting::sown, Kind.time)
 *             made { Planting(crop(), bed(), sown()) }
 *         }
 *     }
 *     val plantings = pantry[Garden.plantings]
 *     val id = plantings.add(Planting("beans", "C4", Instant.now()))
 *     plantings.flow.onEach { all -> show(all.values) }.launchIn(scope)
 */
package pantry

import kotlin.reflect.KProperty1
import kotlinx.coroutines.flow.StateFlow
import mobile.Mobile
import mobile.Record
import mobile.Texts

/** A member of a record: a property of T, stored under a name. */
class Member<T, M> internal constructor(internal val name: String, private val property: KProperty1<T, M>, private val kind: Kind<M>, private val default: M?) {
    internal fun write(r: Record, x: T) = kind.put(r, name, property.get(x))
    internal fun read(r: Record): M = if (default != null && !r.has(name)) default else kind.get(r, name)
}

/** The members of a record of type T, which each property is declared with. */
class Members<T> internal constructor() {
    internal val all = mutableListOf<Member<T, *>>()

    /** Declares a member, stored under its property's name in kebab case, or under name. Without a default, a record without it can't be read. */
    fun <M> member(property: KProperty1<T, M>, kind: Kind<M>, default: M? = null, name: String = kebab(property.name)) =
        Member(name, property, kind, default).also { all += it }

    /** Says how a record becomes a T: within it, each member is called for its value. */
    fun made(f: Stored.() -> T): Stored.() -> T = f
}

/** A stored record, whose members are read by calling them. */
class Stored internal constructor(private val record: Record) {
    operator fun <M> Member<*, M>.invoke(): M = read(record)
}

/** A collection's key. */
class RecordsKey<T> internal constructor(val name: String, internal val own: mobile.RecordsKey, private val members: List<Member<T, *>>, private val made: Stored.() -> T) {
    internal fun record(x: T): Record = Mobile.newRecord().also { r -> members.forEach { it.write(r, x) } }
    internal fun value(r: Record): T = Stored(r).made()
}

/** Declares a collection. */
fun <T> Declared.records(name: String? = null, shape: Members<T>.() -> (Stored.() -> T)) = Declared.Declaring(name) { n ->
    val members = Members<T>()
    val made = members.shape()
    RecordsKey(n, keys.recordsKey(n), members.all, made)
}

/** The records that can be read, in order. */
internal fun <T> readable(key: RecordsKey<T>, ids: Texts, get: (String) -> Record): Map<String, T> =
    strings(ids).mapNotNull { id -> runCatching { id to key.value(get(id)) }.getOrNull() }.toMap()

/** A collection on this device. */
class Records<T> internal constructor(private val key: RecordsKey<T>, private val r: mobile.Records) {
    /** All records that can be read, by their ids, in order: numbers by size. It does not wait. */
    val all: Map<String, T> get() = calling { readable(key, r.ids(), r::get) }

    /** The record of an id, or null. If it is there and can't be read, an exception. */
    operator fun get(id: String): T? = orNull { r.get(id) }?.let { calling { key.value(it) } }

    /** Stores a record under the next number, which is never used again, and returns it. */
    suspend fun add(x: T): String = written { r.add(key.record(x)) }

    /** Stores a record under an id, and replaces an existing one. */
    suspend fun put(id: String, x: T) = written { r.put(id, key.record(x)) }

    /** Removes a record if there is one. */
    suspend fun drop(id: String) = written { r.drop(id) }

    /** Removes all records. */
    suspend fun clear() = written { r.clear() }

    /** All records now, and after each change, by any process. */
    val flow: StateFlow<Map<String, T>> by lazy { changing(r::watch) { all } }
}

operator fun <T> Pantry.get(key: RecordsKey<T>): Records<T> = of(key) { Records(key, key.own.bind(ns)) }

/** In a commit: its calls do not suspend. */
fun <T> Commit.put(key: RecordsKey<T>, id: String, x: T) = calling { key.own.`in`(batch).put(id, key.record(x)) }
fun <T> Commit.add(key: RecordsKey<T>, x: T): String = calling { key.own.`in`(batch).add(key.record(x)) }
fun Commit.drop(key: RecordsKey<*>, id: String) = calling { key.own.`in`(batch).drop(id) }
