/**
 * Small Pantry for Kotlin, over the library that gobind makes of package mobile: keys as
 * properties, values that are read without waiting, writes that suspend, changes as a StateFlow.
 *
 *     object Settings : Declared() {
 *         val reminderHour by int(18, 0..23)      // stored as reminder-hour
 *         val units by choice(Units.METRIC)
 *         val beds by list(Kind.text, keep = 20)
 *     }
 *     val pantry = Pantry.open(filesDir.path, "plotbook", Settings)   // suspends
 *     label.text = pantry[Settings.reminderHour].value.toString()
 *     scope.launch { pantry[Settings.reminderHour].set(7) }           // returns when it is on disk
 *     pantry[Settings.reminderHour].flow.onEach { label.text = it.toString() }.launchIn(scope)
 *
 * Everything can be used by several threads at once. What is refused is a PantryException.
 */
package pantry

import java.time.Duration
import java.time.Instant
import java.util.concurrent.ConcurrentHashMap
import java.util.concurrent.Executors
import kotlin.properties.ReadOnlyProperty
import kotlin.reflect.KProperty
import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.Deferred
import kotlinx.coroutines.Dispatchers
import kotlinx.coroutines.SupervisorJob
import kotlinx.coroutines.asCoroutineDispatcher
import kotlinx.coroutines.async
import kotlinx.coroutines.flow.MutableStateFlow
import kotlinx.coroutines.flow.StateFlow
import kotlinx.coroutines.flow.asStateFlow
import kotlinx.coroutines.withContext
import mobile.Batch
import mobile.Items
import mobile.Mobile
import mobile.Namespace
import mobile.Options
import mobile.Record
import mobile.Texts
import mobile.Watching

/** Why a call failed. The user reads the sentence of the PantryException; the program reads this. */
enum class Code {
    /** A mistake of the app: a key of other Declared, or a closed object. */
    MISUSE,
    /** The value breaks the key's rules. */
    INVALID,
    /** Another kind of value is stored. */
    WRONG_KIND,
    TOO_LARGE, CONFLICT, ABSENT,
    /** The disk refused, and nothing was stored. */
    NOT_STORED,
    /** It may have been stored or not: read before you try again. */
    UNCERTAIN,
    BUSY, CLOSED, READ_ONLY, PERMISSION,
    /** A newer version of the app has changed the file. */
    NEWER,
    DAMAGED, SEALED,
    // Of a board:
    /** There was no answer; a change may have been stored. */
    UNREACHABLE,
    /** The link does not allow it, or was revoked. */
    FORBIDDEN,
    UNDECLARED, QUOTA, TOO_LATE, LINK, GIVEN_UP,
    /** Anything else. */
    FAILED;

    internal companion object {
        fun of(message: String): Code = entries.firstOrNull { kebab(it.name) == Mobile.code(message) } ?: FAILED
    }
}

/** What went wrong: a code for the program, and a sentence for the user. */
class PantryException internal constructor(val code: Code, val sentence: String, cause: Throwable) : Exception("${kebab(code.name)}: $sentence", cause)

/** A problem that the app survives, for example a stored value that can't be used. name is "" if it is about no entry. */
class Problem internal constructor(val name: String, val error: PantryException)

internal fun failure(message: String, cause: Throwable = Exception(message)) = PantryException(Code.of(message), Mobile.sentence(message), cause)

/** Runs a call of the library. Its exceptions become PantryExceptions. */
internal inline fun <T> calling(f: () -> T): T = try {
    f()
} catch (e: PantryException) {
    throw e
} catch (e: Exception) {
    throw failure(e.message.orEmpty(), e)
}

/** Runs tasks of the library on its own thread: a flow takes values from there to its collectors. */
internal val here = mobile.Runner { it.run() }

internal fun problems(f: (Problem) -> Unit) = mobile.ProblemHandler { name, what -> f(Problem(name, failure(what))) }

/** A kind of values inside a list or a record. */
class Kind<T> internal constructor(
    internal val name: String,
    internal val add: Items.(T) -> Unit,
    internal val at: Items.(Long) -> T,
    internal val put: Record.(String, T) -> Unit,
    internal val get: Record.(String) -> T,
) {
    companion object {
        val int = Kind<Int>("int", { addInt(it.toLong()) }, { whole(getInt(it)) }, { n, x -> setInt(n, x.toLong()) }, { whole(getInt(it)) })
        val long = Kind<Long>("int", { addInt(it) }, { getInt(it) }, { n, x -> setInt(n, x) }, { getInt(it) })
        val float = Kind<Float>("float", { addFloat(exact(it)) }, { getFloat(it).toFloat() }, { n, x -> setFloat(n, exact(x)) }, { getFloat(it).toFloat() })
        val double = Kind<Double>("float", { addFloat(it) }, { getFloat(it) }, { n, x -> setFloat(n, x) }, { getFloat(it) })
        val bool = Kind<Boolean>("bool", { addBool(it) }, { getBool(it) }, { n, x -> setBool(n, x) }, { getBool(it) })
        val text = Kind<String>("text", { addText(it) }, { getText(it) }, { n, x -> setText(n, x) }, { getText(it) })
        val bytes = Kind<ByteArray>("bytes", { addBytes(it) }, { getBytes(it) ?: ByteArray(0) }, { n, x -> setBytes(n, x) }, { getBytes(it) ?: ByteArray(0) })

        /** Moments, to the millisecond. */
        val time = Kind<Instant>("time", { addTime(it.toEpochMilli()) }, { Instant.ofEpochMilli(getTime(it)) }, { n, x -> setTime(n, x.toEpochMilli()) }, { Instant.ofEpochMilli(getTime(it)) })

        /** Durations, to the millisecond. */
        val duration = Kind<Duration>("duration", { addDuration(it.toMillis()) }, { Duration.ofMillis(getDuration(it)) }, { n, x -> setDuration(n, x.toMillis()) }, { Duration.ofMillis(getDuration(it)) })

        /** The values of an enum, as texts in kebab case. */
        inline fun <reified E : Enum<E>> choice(): Kind<E> = choiceOf(enumValues<E>().toList())

        @PublishedApi
        internal fun <E : Enum<E>> choiceOf(all: List<E>): Kind<E> {
            fun read(word: String) = all.firstOrNull { kebab(it.name) == word } ?: throw Exception("invalid: $word is none of ${all.joinToString { kebab(it.name) }}")
            return Kind("text", { addText(kebab(it.name)) }, { read(getText(it)) }, { n, x -> setText(n, kebab(x.name)) }, { read(getText(it)) })
        }

        /** A list of values of one kind, inside a record. */
        fun <E> list(of: Kind<E>): Kind<List<E>> = Kind("list", { error("a list can't be in a list") }, { error("a list can't be in a list") }, { n, x -> setItems(n, items(of, x)) }, { listFrom(of, getItems(it)) })

        private fun whole(x: Long): Int = if (x == x.toInt().toLong()) x.toInt() else throw Exception("wrong-kind: $x is too large for an Int")
        internal fun exact(x: Float): Double = x.toString().toDouble() // 0.1f is 0.1
    }
}

internal fun <E> items(of: Kind<E>, all: List<E>): Items = Mobile.newItems().also { l -> all.forEach { of.add(l, it) } }
internal fun <E> listFrom(of: Kind<E>, l: Items): List<E> = (0 until l.len()).map { of.at(l, it) }

/** A key: a name with a kind and a default. */
class Key<T> internal constructor(
    val name: String,
    internal val own: Any, // the library's
    private val typed: (String) -> T,
    private val shown: (T) -> String,
    internal val into: (T) -> Any?, // what the library has for a value
    internal val out: (Any?) -> T,
    internal val items: Kind<*>? = null, // of a list
) {
    /** Reads what a user typed. The exception has a sentence to show. */
    fun parse(typed: String): T = calling { this.typed(typed) }

    /** The inverse of parse: what to show in an input. */
    fun format(x: T): String = calling { shown(x) }
}

@Suppress("UNCHECKED_CAST")
private fun <M, T> key(name: String, own: Any, typed: (String) -> M, shown: (M) -> String, into: (T) -> M, out: (M) -> T, items: Kind<*>? = null) =
    Key(name, own, { out(typed(it)) }, { shown(into(it)) }, into, { out(it as M) }, items)

private fun <T> key(name: String, own: Any, typed: (String) -> T, shown: (T) -> String): Key<T> = key(name, own, typed, shown, { it }, { it })

/** What an app declares: its keys, each a property. A key is stored under the property's name in kebab case, or under name. */
abstract class Declared {
    internal val keys = Mobile.newKeys()

    /** Declares a key when its property is made. */
    class Declaring<K> internal constructor(private val name: String?, private val make: (String) -> K) {
        operator fun provideDelegate(self: Declared, property: KProperty<*>): ReadOnlyProperty<Declared, K> {
            val key = make(name ?: kebab(property.name))
            return ReadOnlyProperty { _, _ -> key }
        }
    }

    protected fun int(default: Int = 0, range: IntRange? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val all = range ?: Int.MIN_VALUE..Int.MAX_VALUE
        val k = keys.intKey(n, default.toLong()).between(all.first.toLong(), all.last.toLong()).about(about)
        key(n, k, k::parse, k::format, Int::toLong, Long::toInt)
    }

    protected fun long(default: Long = 0, range: LongRange? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.intKey(n, default).about(about)
        if (range != null) k.between(range.first, range.last)
        key(n, k, k::parse, k::format)
    }

    protected fun float(default: Float = 0f, range: ClosedFloatingPointRange<Float>? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.floatKey(n, Kind.exact(default)).about(about)
        if (range != null) k.between(Kind.exact(range.start), Kind.exact(range.endInclusive))
        key(n, k, k::parse, k::format, Kind.Companion::exact, Double::toFloat)
    }

    protected fun double(default: Double = 0.0, range: ClosedFloatingPointRange<Double>? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.floatKey(n, default).about(about)
        if (range != null) k.between(range.start, range.endInclusive)
        key(n, k, k::parse, k::format)
    }

    protected fun bool(default: Boolean = false, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.boolKey(n, default).about(about)
        key(n, k, k::parse, k::format)
    }

    /**
     * check returns a sentence for the user that says what is wrong with a text, or null. sealed encrypts the
     * stored text, and needs the seal of Pantry.open.
     */
    protected fun text(default: String = "", sealed: Boolean = false, about: String = "", name: String? = null, check: ((String) -> String?)? = null) = Declaring(name) { n ->
        val k = keys.textKey(n, default).about(about)
        if (check != null) k.check { check(it).orEmpty() }
        if (sealed) k.sealed()
        key(n, k, k::parse, k::format)
    }

    /** One of an enum's values, stored as a text in kebab case. */
    protected inline fun <reified E : Enum<E>> choice(default: E, about: String = "", name: String? = null) = choiceOf(enumValues<E>().toList(), default, about, name)

    @PublishedApi
    internal fun <E : Enum<E>> choiceOf(all: List<E>, default: E, about: String, name: String?) = Declaring(name) { n ->
        val words = all.associateBy { kebab(it.name) }
        val k = keys.choiceKey(n, texts(listOf(kebab(default.name)) + (words.keys - kebab(default.name)))).about(about)
        key(n, k, k::parse, k::format, { kebab(it.name) }, { words[it] ?: error(it) }) // the library has refused any other
    }

    protected fun bytes(name: String? = null) = Declaring(name) { n ->
        val k = keys.bytesKey(n, null)
        key(n, k, k::parse, k::format, { it }, { x: ByteArray? -> x ?: ByteArray(0) })
    }

    /** Moments, to the millisecond. */
    protected fun time(default: Instant = Instant.EPOCH, name: String? = null) = Declaring(name) { n ->
        val k = keys.timeKey(n, default.toEpochMilli())
        key(n, k, k::parse, k::format, Instant::toEpochMilli, Instant::ofEpochMilli)
    }

    /** Durations, to the millisecond. */
    protected fun duration(default: Duration = Duration.ZERO, name: String? = null) = Declaring(name) { n ->
        val k = keys.durationKey(n, default.toMillis())
        key(n, k, k::parse, k::format, Duration::toMillis, Duration::ofMillis)
    }

    /** Lists of items of one kind. keep limits a list to its newest items. */
    protected fun <E> list(of: Kind<E>, keep: Int? = null, about: String = "", name: String? = null) = Declaring(name) { n ->
        val k = keys.listKey(n, of.name).about(about)
        if (keep != null) k.keep(keep.toLong())
        key<Items, List<E>>(n, k, k::parse, k::format, { items(of, it) }, { listFrom(of, it) }, of)
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
    is mobile.IntKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.FloatKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.BoolKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.TextKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.BytesKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.TimeKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.DurationKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    is mobile.ListKey -> (if (b == null) own.bind(ns) else own.`in`(b)).let { port(it, it::get, it::set, it::seed, it::clear, it::stored, it::watch) }
    else -> error("no such key: $own")
}

/** Writes run here, off the thread that draws, in the order of their calls. A cancelled caller does not wait. */
private val writing = CoroutineScope(SupervisorJob() + Executors.newSingleThreadExecutor { Thread(it, "pantry").apply { isDaemon = true } }.asCoroutineDispatcher())

internal suspend fun <T> written(f: () -> T): T = writing.async { calling(f) }.await()

/** Opening and joining run here. */
internal val opening = CoroutineScope(SupervisorJob() + Dispatchers.IO)

/** A StateFlow of what now returns, which changes update until the namespace or the board is closed. */
internal fun <T> changing(watch: (mobile.Runner, mobile.Handler) -> Watching, now: () -> T): StateFlow<T> {
    val state = MutableStateFlow(now())
    calling { watch(here, mobile.Handler { runCatching(now).onSuccess { state.value = it } }) }
    return state.asStateFlow()
}

/** A key's variable on this device. */
class Variable<T> internal constructor(internal val key: Key<T>, internal val port: Port) {
    /** What is stored, or else the default. It does not wait. */
    val value: T get() = calling { key.out(port.get()) }

    /** Whether a value is stored that can be used. */
    val stored: Boolean get() = runCatching { port.stored() }.getOrDefault(false)

    /** Why the stored value can't be used, so that value is the default; null if nothing is wrong. */
    val problem: PantryException? get() = try {
        calling { port.stored() }
        null
    } catch (e: PantryException) {
        e
    }

    /** Stores a value: when it returns, it is on disk. If the caller is cancelled meanwhile, it may be stored. */
    suspend fun set(x: T) = written { port.set(key.into(x)) }

    /** Stores a value if nothing is stored. */
    suspend fun seed(x: T) = written { port.seed(key.into(x)) }

    /** Removes what is stored. */
    suspend fun clear() = written { port.clear() }

    /** The value now, and the newest after each change, by any process. Slow collectors skip values. */
    val flow: StateFlow<T> by lazy { changing(port.watch) { value } }
}

/** Adds a number, so that concurrent additions all count, and returns the sum. */
@JvmName("addInt") suspend fun Variable<Int>.add(n: Int): Int = written { (port.own as mobile.IntVar).add(n.toLong()).toInt() }
@JvmName("addLong") suspend fun Variable<Long>.add(n: Long): Long = written { (port.own as mobile.IntVar).add(n) }
@JvmName("addFloat") suspend fun Variable<Float>.add(n: Float): Float = written { (port.own as mobile.FloatVar).add(Kind.exact(n)).toFloat() }
@JvmName("addDouble") suspend fun Variable<Double>.add(n: Double): Double = written { (port.own as mobile.FloatVar).add(n) }

@Suppress("UNCHECKED_CAST")
internal fun <E> Key<List<E>>.of(some: List<E>): Items = items(items as Kind<E>, some)

/** Appends items at the end. With unique, items that the list has are left out. */
suspend fun <E> Variable<List<E>>.append(vararg some: E, unique: Boolean = false) = written { (port.own as mobile.ListVar).append(key.of(some.toList()), unique) }

/** Removes the first item that equals each of some. With all, every equal item. */
suspend fun <E> Variable<List<E>>.remove(vararg some: E, all: Boolean = false) = written { (port.own as mobile.ListVar).remove(key.of(some.toList()), all) }

/** Removes an item and returns it: 0 is the first, -1 the last. null means that there is none. */
suspend fun <E> Variable<List<E>>.take(at: Int): E? = written { orNull { key.out((port.own as mobile.ListVar).take(at.toLong())).single() } }

/** Returns null for a call whose code is absent. */
internal fun <T> orNull(f: () -> T): T? = try {
    calling(f)
} catch (e: PantryException) {
    if (e.code == Code.ABSENT) null else throw e
}

/** A commit that is being made. */
class Commit internal constructor(internal val batch: Batch) {
    operator fun <T> get(key: Key<T>): T = calling { key.out(bound(key.own, null, batch).get()) }
    operator fun <T> set(key: Key<T>, x: T) = calling { bound(key.own, null, batch).set(key.into(x)) }
    fun clear(key: Key<*>) = calling { bound(key.own, null, batch).clear() }
}

/** An open namespace: the entries of one app, in one file. */
class Pantry private constructor(internal val ns: Namespace) : AutoCloseable {
    private val variables = ConcurrentHashMap<Any, Any>()

    /** Returns the same object for the same key. */
    @Suppress("UNCHECKED_CAST")
    internal fun <V : Any> of(key: Any, make: () -> V): V = variables.getOrPut(key) { calling(make) } as V

    /** The key's variable here. */
    operator fun <T> get(key: Key<T>): Variable<T> = of(key) { Variable(key, bound(key.own, ns, null)) }

    /** Makes all changes, or none: what f throws is thrown, and nothing is stored. */
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

    /** The path of the file. */
    val path: String get() = ns.path()

    /** Removes every entry, declared or not, and erases them from the file. */
    suspend fun reset() = written { ns.reset() }

    override fun close() = calling { ns.close() }

    companion object {
        /**
         * Opens a namespace in a directory of the app. It does not use the thread of the caller. seal is a secret of
         * 32 bytes from the keystore. onProblem is called on another thread with what the app survives.
         */
        suspend fun open(dir: String, name: String, declared: Declared, seal: ByteArray? = null, options: Options = Mobile.newOptions(), onProblem: ((Problem) -> Unit)? = null): Pantry = withContext(Dispatchers.IO) {
            calling {
                if (seal != null) options.seal(seal)
                if (onProblem != null) options.onProblem(here, problems(onProblem))
                Pantry(Mobile.open(dir, name, declared.keys, options))
            }
        }

        /** Starts open, for example when the process starts, and returns what to await. */
        fun opening(dir: String, name: String, declared: Declared, seal: ByteArray? = null): Deferred<Pantry> = opening.async { open(dir, name, declared, seal) }
    }
}
