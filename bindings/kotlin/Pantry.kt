/**
 * Small Pantry for Kotlin, over the library that gobind makes of package mobile: keys as
 * properties, values that are read without waiting, writes that suspend, changes as flows.
 *
 *     object Settings : Keys() {
 *         val reminderHour by whole(18, 0L..23L)      // stored as reminder-hour
 *         val units by choice(Units.METRIC)
 *     }
 *     val pantry = Pantry.open(filesDir.path, "plotbook", Settings)
 *     label.text = pantry[Settings.reminderHour].value.toString()
 *     scope.launch { pantry[Settings.reminderHour].set(7) }
 *     pantry[Settings.reminderHour].flow.onEach { label.text = it.toString() }.launchIn(scope)
 */
package pantry

import java.time.Duration
import java.time.Instant
import java.util.concurrent.Executors
import kotlin.properties.ReadOnlyProperty
import kotlin.reflect.KProperty
import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.SupervisorJob
import kotlinx.coroutines.asCoroutineDispatcher
import kotlinx.coroutines.async
import kotlinx.coroutines.channels.awaitClose
import kotlinx.coroutines.flow.Flow
import kotlinx.coroutines.flow.callbackFlow
import kotlinx.coroutines.flow.conflate
import mobile.Batch
import mobile.Mobile
import mobile.Namespace
import mobile.Options
import mobile.Texts
import mobile.Watching

/** What went wrong: a code for the program, as package mobile has them, and a sentence for the user. */
class PantryException(val code: String, val sentence: String, cause: Throwable) : Exception("$code: $sentence", cause)

internal inline fun <T> told(f: () -> T): T = try {
    f()
} catch (e: PantryException) {
    throw e
} catch (e: Exception) {
    val message = e.message.orEmpty()
    throw PantryException(Mobile.code(message).ifEmpty { "failed" }, Mobile.sentence(message), e)
}

/** Runs what is to be told where it comes in: a flow takes it from there. */
internal val here = mobile.Runner { it.run() }

/** A key: a name with a kind and a default. */
class Key<T> internal constructor(
    val name: String,
    internal val own: Any, // the library's
    private val typed: (String) -> T,
    private val shown: (T) -> String,
    internal val into: (T) -> Any?, // what the library has for a value
    internal val out: (Any?) -> T,
) {
    /** Reads what a user typed; the exception's sentence is for him. */
    fun parse(typed: String): T = told { this.typed(typed) }

    /** The inverse of parse: what to show in an input. */
    fun format(x: T): String = told { shown(x) }
}

@Suppress("UNCHECKED_CAST")
private fun <M, T> key(name: String, own: Any, typed: (String) -> M, shown: (M) -> String, into: (T) -> M, out: (M) -> T) =
    Key(name, own, { out(typed(it)) }, { shown(into(it)) }, into) { out(it as M) }

private fun <T> key(name: String, own: Any, typed: (String) -> T, shown: (T) -> String): Key<T> = key(name, own, typed, shown, { it }, { it })

/** The keys of an app, each a property, whose name in kebab case is the name under which it is stored. */
abstract class Keys {
    internal val keys = Mobile.newKeys()

    /** Declares a key when its property is made. */
    class Declaring<K> internal constructor(private val name: String?, private val make: (String) -> K) {
        operator fun provideDelegate(self: Keys, property: KProperty<*>): ReadOnlyProperty<Keys, K> {
            val key = make(name ?: kebab(property.name))
            return ReadOnlyProperty { _, _ -> key }
        }
    }

    protected fun whole(default: Long = 0, range: LongRange? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.whole(n, default)
        if (range != null) k.between(range.first, range.last)
        if (about.isNotEmpty()) k.about(about)
        key(n, k, k::parse, k::format)
    }

    protected fun decimal(default: Double = 0.0, range: ClosedFloatingPointRange<Double>? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.decimal(n, default)
        if (range != null) k.between(range.start, range.endInclusive)
        if (about.isNotEmpty()) k.about(about)
        key(n, k, k::parse, k::format)
    }

    protected fun bool(default: Boolean = false, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.switch_(n, default)
        if (about.isNotEmpty()) k.about(about)
        key(n, k, k::parse, k::format)
    }

    /** sealed needs Pantry.open's seal. */
    protected fun text(default: String = "", sealed: Boolean = false, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.text(n, default)
        if (sealed) k.sealed()
        if (about.isNotEmpty()) k.about(about)
        key(n, k, k::parse, k::format)
    }

    /** One of an enum's values, which are stored in kebab case; the default need not be the first. */
    protected inline fun <reified E : Enum<E>> choice(default: E, about: String = "", name: String? = null) = choiceOf(enumValues<E>().toList(), default, about, name)

    @PublishedApi
    internal fun <E : Enum<E>> choiceOf(all: List<E>, default: E, about: String, name: String?) = Declaring(name) { n ->
        val words = all.associateBy { kebab(it.name) }
        val options = texts(listOf(kebab(default.name)) + (words.keys - kebab(default.name)))
        val k = keys.choice(n, options)
        if (about.isNotEmpty()) k.about(about)
        key(n, k, k::parse, k::format, { kebab(it.name) }, { words[it] ?: error(it) }) // the library has refused any other
    }

    protected fun bytes(name: String? = null) = Declaring(name) { n ->
        val k = keys.bytes(n, null)
        key(n, k, k::parse, k::format, { it }, { x: ByteArray? -> x ?: ByteArray(0) })
    }

    /** Moments, to the millisecond. */
    protected fun time(default: Instant = Instant.EPOCH, name: String? = null) = Declaring(name) { n ->
        val k = keys.time(n, default.toEpochMilli())
        key(n, k, k::parse, k::format, Instant::toEpochMilli, Instant::ofEpochMilli)
    }

    /** Durations, to the millisecond. */
    protected fun span(default: Duration, name: String? = null) = Declaring(name) { n ->
        val k = keys.span(n, default.toMillis())
        key(n, k, k::parse, k::format, Duration::toMillis, Duration::ofMillis)
    }

    /** Lists of texts; keep bounds them. */
    protected fun list(keep: Long? = null, name: String? = null) = Declaring(name) { n ->
        val k = keys.list(n)
        if (keep != null) k.keep(keep)
        key(n, k, k::parse, k::format, ::texts, ::strings)
    }
}

internal fun strings(t: Texts): List<String> = (0 until t.len()).map { t.at(it) }
internal fun texts(all: List<String>): Texts = all.fold(Mobile.newTexts()) { t, s -> t.add(s) }

/** reminderHour and REMINDER_HOUR are reminder-hour. */
internal fun kebab(name: String): String =
    if (name.uppercase() == name) name.lowercase().replace('_', '-') else name.replace(Regex("(?<=[a-z0-9])[A-Z]")) { "-" + it.value }.lowercase()

/** A variable as the library has it. */
internal class Port(val own: Any, val get: () -> Any?, val set: (Any?) -> Unit, val seed: (Any?) -> Unit, val clear: () -> Unit, val stored: () -> Boolean, val watch: (mobile.Runner, mobile.Handler) -> Watching)

@Suppress("UNCHECKED_CAST")
private fun <M> port(own: Any, get: () -> M, set: (M) -> Unit, seed: (M) -> Unit, clear: () -> Unit, stored: () -> Boolean, watch: (mobile.Runner, mobile.Handler) -> Watching) =
    Port(own, get, { set(it as M) }, { seed(it as M) }, clear, stored, watch)

/** The variable of a key in a namespace, or in a commit. */
private fun bound(own: Any, ns: Namespace?, b: Batch?): Port = when (own) {
    is mobile.WholeKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.DecimalKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.SwitchKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.TextKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.BytesKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.TimeKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.SpanKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.ListKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    else -> error("no such key: $own")
}

/** Writes go on here, off the thread that draws, in the order of their calls. A cancelled caller does not wait. */
private val writing = CoroutineScope(SupervisorJob() + Executors.newSingleThreadExecutor { Thread(it, "pantry").apply { isDaemon = true } }.asCoroutineDispatcher())

internal suspend fun <T> written(f: () -> T): T = writing.async { told(f) }.await()

/** The value of now, and the newest after each change. Slow collectors skip values. */
internal fun <T> changes(watch: (mobile.Runner, mobile.Handler) -> Watching, now: () -> T): Flow<T> = callbackFlow {
    val watching = told { watch(here, mobile.Handler { runCatching { told(now) }.onSuccess { trySend(it) }.onFailure { close(it) } }) }
    awaitClose { watching.stop() }
}.conflate()

/** A key's variable. It may be used by several threads at once. */
class Variable<T> internal constructor(private val key: Key<T>, internal val port: Port) {
    /** What is stored, or else the default; it does not wait. */
    val value: T get() = told { key.out(port.get()) }

    /** Whether something is stored; an exception where it can't be used. */
    val stored: Boolean get() = told { port.stored() }

    /** Stores: when it returns, it is on the disk. Cancelled meanwhile, it may be stored yet. */
    suspend fun set(x: T) = written { port.set(key.into(x)) }

    /** Stores where nothing is stored. */
    suspend fun seed(x: T) = written { port.seed(key.into(x)) }

    /** Removes what is stored. */
    suspend fun clear() = written { port.clear() }

    /** The value now, and the newest after each change, by anybody. Slow collectors skip values. */
    val flow: Flow<T> get() = changes(port.watch) { value }
}

/** Adds, without losing what others add, and returns the sum. */
suspend fun Variable<Long>.add(n: Long): Long = written { (port.own as mobile.Whole).add(n) }

/** Appends an item; with unique, unless it is there. */
suspend fun Variable<List<String>>.append(item: String, unique: Boolean = false) = written { (port.own as mobile.List).append(item, unique) }

/** A commit that is being made. */
class Commit internal constructor(internal val batch: Batch) {
    operator fun <T> get(key: Key<T>): T = told { key.out(bound(key.own, null, batch).get()) }
    operator fun <T> set(key: Key<T>, x: T) = told { bound(key.own, null, batch).set(key.into(x)) }
    fun clear(key: Key<*>) = told { bound(key.own, null, batch).clear() }
}

/** A namespace that is open: the entries of one app, in one file. */
class Pantry private constructor(internal val ns: Namespace) : AutoCloseable {
    /** The key's variable here. */
    operator fun <T> get(key: Key<T>): Variable<T> = told { Variable(key, bound(key.own, ns, null)) }

    /** All changes, or none: what f throws is thrown, and nothing stored. */
    suspend fun commit(f: Commit.() -> Unit) {
        var own: Throwable? = null
        written {
            try {
                ns.commit { b -> runCatching { Commit(b).f() }.onFailure { own = it }.getOrThrow() }
            } catch (e: Exception) {
                throw own ?: e
            }
        }
    }

    val path: String get() = ns.path()
    suspend fun reset() = written { ns.reset() }

    override fun close() = told { ns.close() }

    companion object {
        /** Opens a namespace in a directory of the app's own. seal is 32 bytes from the keystore. */
        fun open(dir: String, name: String, keys: Keys, seal: ByteArray? = null, options: Options = Mobile.newOptions()): Pantry =
            told { Pantry(Mobile.open(dir, name, keys.keys, if (seal == null) options else options.seal(seal))) }
    }
}
