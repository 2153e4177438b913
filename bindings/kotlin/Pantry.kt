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
import kotlin.properties.ReadOnlyProperty
import kotlin.reflect.KProperty
import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.Dispatchers
import kotlinx.coroutines.SupervisorJob
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

/** A variable as the library has it. */
internal interface Port<T> {
    fun get(): T
    fun set(x: T)
    fun seed(x: T)
    fun clear()
    fun stored(): Boolean
    fun watch(changed: () -> Unit): Watching
}

/** Runs what is to be told where it comes in: a flow takes it from there. */
private val here = mobile.Runner { it.run() }

/** A key: what is stored under a name, of which kind, with which default. */
class Key<T> internal constructor(
    val name: String,
    private val typed: (String) -> T,
    private val shown: (T) -> String,
    internal val bind: (Namespace) -> Port<T>,
    internal val within: (Batch) -> Port<T>,
) {
    /** Reads what a user typed; the exception's sentence is for him. */
    fun parse(typed: String): T = told { this.typed(typed) }

    /** The inverse of parse: what to show in an input. */
    fun format(x: T): String = told { shown(x) }
}

/** The keys of an app, each a property, whose name in kebab case is the name under which it is stored. */
abstract class Keys {
    internal val keys = Mobile.newKeys()

    /** Declares a key when its property is made. */
    inner class Declaring<T> internal constructor(private val name: String?, private val make: (String) -> Key<T>) {
        operator fun provideDelegate(self: Keys, property: KProperty<*>): ReadOnlyProperty<Keys, Key<T>> {
            val key = make(name ?: kebab(property.name))
            return ReadOnlyProperty { _, _ -> key }
        }
    }

    protected fun whole(default: Long = 0, range: LongRange? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.whole(n, default)
        if (range != null) k.between(range.first, range.last)
        if (about.isNotEmpty()) k.about(about)
        Key(n, k::parse, k::format, { ns -> wholePort(k.bind(ns)) }, { b -> wholePort(k.`in`(b)) })
    }

    protected fun decimal(default: Double = 0.0, range: ClosedFloatingPointRange<Double>? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.decimal(n, default)
        if (range != null) k.between(range.start, range.endInclusive)
        if (about.isNotEmpty()) k.about(about)
        val port = { v: mobile.Decimal -> port(v::get, v::set, v::seed, v::clear, v::stored, v::watch) }
        Key(n, k::parse, k::format, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }

    protected fun bool(default: Boolean = false, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.switch_(n, default)
        if (about.isNotEmpty()) k.about(about)
        val port = { v: mobile.Switch -> port(v::get, v::set, v::seed, v::clear, v::stored, v::watch) }
        Key(n, k::parse, k::format, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }

    /** sealed needs Pantry.open's seal. */
    protected fun text(default: String = "", sealed: Boolean = false, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.text(n, default)
        if (sealed) k.sealed()
        if (about.isNotEmpty()) k.about(about)
        Key(n, k::parse, k::format, { ns -> textPort(k.bind(ns)) }, { b -> textPort(k.`in`(b)) })
    }

    /** One of an enum's values, which are stored in kebab case; the default need not be the first. */
    protected inline fun <reified E : Enum<E>> choice(default: E, name: String? = null) = choiceOf(enumValues<E>().toList(), default, name)

    @PublishedApi
    internal fun <E : Enum<E>> choiceOf(all: List<E>, default: E, name: String?) = Declaring(name) { n ->
        val words = all.associateBy { kebab(it.name) }
        val read = { word: String -> words[word] ?: error(word) } // the library has refused any other
        val options = Mobile.newTexts().add(kebab(default.name))
        words.keys.filter { it != kebab(default.name) }.forEach { options.add(it) }
        val k = keys.choice(n, options)
        Key(n, { read(k.parse(it)) }, { k.format(kebab(it.name)) },
            { ns -> textPort(k.bind(ns)).seen(read, { kebab(it.name) }) }, { b -> textPort(k.`in`(b)).seen(read, { kebab(it.name) }) })
    }

    protected fun bytes(name: String? = null) = Declaring(name) { n ->
        val k = keys.bytes(n, null)
        val port = { v: mobile.Bytes -> port({ v.get() ?: ByteArray(0) }, v::set, v::seed, v::clear, v::stored, v::watch) }
        Key(n, { k.parse(it) ?: ByteArray(0) }, k::format, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }

    /** Moments, to the millisecond. */
    protected fun time(default: Instant = Instant.EPOCH, name: String? = null) = Declaring(name) { n ->
        val k = keys.time(n, default.toEpochMilli())
        val port = { v: mobile.Time -> port(v::get, v::set, v::seed, v::clear, v::stored, v::watch).seen(Instant::ofEpochMilli, Instant::toEpochMilli) }
        Key(n, { Instant.ofEpochMilli(k.parse(it)) }, { k.format(it.toEpochMilli()) }, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }

    /** Durations, to the millisecond. */
    protected fun span(default: Duration, name: String? = null) = Declaring(name) { n ->
        val k = keys.span(n, default.toMillis())
        val port = { v: mobile.Span -> port(v::get, v::set, v::seed, v::clear, v::stored, v::watch).seen(Duration::ofMillis, Duration::toMillis) }
        Key(n, { Duration.ofMillis(k.parse(it)) }, { k.format(it.toMillis()) }, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }

    /** Lists of texts; keep bounds them. */
    protected fun list(keep: Long? = null, name: String? = null) = Declaring(name) { n ->
        val k = keys.list(n)
        if (keep != null) k.keep(keep)
        val port = { v: mobile.List -> port(v::get, v::set, v::seed, v::clear, v::stored, v::watch).seen(::strings, ::texts) }
        Key(n, { strings(k.parse(it)) }, { k.format(texts(it)) }, { ns -> port(k.bind(ns)) }, { b -> port(k.`in`(b)) })
    }
}

private fun wholePort(v: mobile.Whole) = port(v::get, v::set, v::seed, v::clear, v::stored, v::watch)
private fun textPort(v: mobile.Text) = port(v::get, v::set, v::seed, v::clear, v::stored, v::watch)

private fun <T> port(get: () -> T, set: (T) -> Unit, seed: (T) -> Unit, clear: () -> Unit, stored: () -> Boolean, watch: (mobile.Runner, mobile.Handler) -> Watching) =
    object : Port<T> {
        override fun get() = get()
        override fun set(x: T) = set(x)
        override fun seed(x: T) = seed(x)
        override fun clear() = clear()
        override fun stored() = stored()
        override fun watch(changed: () -> Unit) = watch(here, mobile.Handler { changed() })
    }

private fun <M, T> Port<M>.seen(out: (M) -> T, into: (T) -> M): Port<T> =
    port({ out(get()) }, { set(into(it)) }, { seed(into(it)) }, { clear() }, { stored() }, { _, h -> watch { h.changed() } })

private fun strings(t: Texts): List<String> = (0 until t.len()).map { t.at(it) }
private fun texts(all: List<String>): Texts = all.fold(Mobile.newTexts()) { t, s -> t.add(s) }

/** reminderHour and REMINDER_HOUR are reminder-hour. */
internal fun kebab(name: String): String =
    if (name.uppercase() == name) name.lowercase().replace('_', '-') else name.replace(Regex("(?<=[a-z0-9])[A-Z]")) { "-" + it.value }.lowercase()

/** Writes go on here, off the thread that draws; who gives one up does not wait for it. */
private val writing = CoroutineScope(SupervisorJob() + Dispatchers.IO)

private suspend fun <T> written(f: () -> T): T = writing.async { told(f) }.await()

/** A key's variable. It may be used by several threads at once. */
class Variable<T> internal constructor(private val port: Port<T>) {
    /** What is stored, or else the default; it does not wait. */
    val value: T get() = told { port.get() }

    /** Whether something is stored; an exception where it can't be used. */
    val stored: Boolean get() = told { port.stored() }

    /** Stores: when it returns, it is on the disk. Cancelled meanwhile, it may be stored yet. */
    suspend fun set(x: T) = written { port.set(x) }

    /** Stores where nothing is stored. */
    suspend fun seed(x: T) = written { port.seed(x) }

    /** Removes what is stored. */
    suspend fun clear() = written { port.clear() }

    /** The value now, and the newest after each change, by whoever. Slow collectors skip. */
    val flow: Flow<T> get() = callbackFlow {
        val watching = told { port.watch { trySend(value) } }
        awaitClose { watching.stop() }
    }.conflate()
}

/** A commit that is being made. */
class Commit internal constructor(private val batch: Batch) {
    operator fun <T> get(key: Key<T>): T = told { key.within(batch).get() }
    operator fun <T> set(key: Key<T>, x: T) = told { key.within(batch).set(x) }
    fun clear(key: Key<*>) = told { key.within(batch).clear() }
}

/** A namespace that is open: the entries of one app, in one file. */
class Pantry private constructor(private val ns: Namespace) : AutoCloseable {
    /** The key's variable here. */
    operator fun <T> get(key: Key<T>): Variable<T> = told { Variable(key.bind(ns)) }

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
