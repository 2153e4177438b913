/**
 * Boards for Kotlin, beside Pantry.kt and Records.kt, for apps whose library has package boards: the
 * same keys, on a board that several phones share.
 *
 *     object Garden : Declared() {
 *         val tankLitres by int(0, 0..5000, name = "tank/litres")
 *     }
 *     val board = Board.join(link, Garden, clientName = "tankwatch", offline = filesDir.path)   // suspends
 *     board[Garden.tankLitres].flow.onEach { label.text = "${it.value} ${it.phase}" }.launchIn(scope)
 *     scope.launch { board[Garden.tankLitres].add(-10) }   // waits for the network; a cancelled call ends
 *
 * With offline, a change that can't be sent is no exception: it is stored on the device and sent later,
 * exactly once. Until then its phase is QUEUED.
 */
package pantry

import boards.Boards
import boards.Call
import boards.Options
import java.time.Instant
import java.util.concurrent.ConcurrentHashMap
import kotlinx.coroutines.Dispatchers
import kotlinx.coroutines.flow.StateFlow
import kotlinx.coroutines.launch
import kotlinx.coroutines.suspendCancellableCoroutine
import kotlinx.coroutines.sync.Mutex
import kotlinx.coroutines.sync.withLock
import kotlinx.coroutines.withContext
import mobile.Watching

/** How far a value can be trusted. */
enum class Phase {
    /** The server has not answered yet; the value is the default. */
    UNKNOWN,
    /** The value as the server has it. */
    CURRENT,
    /** A change of this app is being sent. */
    SENDING,
    /** Changes wait for the network. */
    QUEUED,
    /** The server can't be reached; the value is the one of asOf. */
    STALE,
    /** The stored value can't be used; the value is the default. */
    UNREADABLE,
    /** The newest change of this app was refused; problem says why. */
    REFUSED,
}

/** What is known of a value on a board. */
data class Known<T>(
    val value: T,
    /** The value after all queued changes are stored. */
    val waiting: T,
    val phase: Phase,
    /** Whether something is stored. */
    val found: Boolean,
    /** Whether this app made the newest change. */
    val mine: Boolean,
    /** How many changes wait to be sent. */
    val queued: Int,
    val version: Long,
    /** When it was changed, by the server's clock; null means unknown. */
    val updated: Instant?,
    /** When the server last confirmed it, possibly before this launch; null means never. */
    val asOf: Instant?,
    /** The app that changed it. */
    val by: String,
    /** The reason of the phase; null if nothing is wrong. */
    val problem: PantryException?,
)

/** A variable on a board, as the library has it. */
internal class BoardPort(
    val own: Any, val get: () -> Any?, val waiting: () -> Any?, val set: (Call, Any?) -> Unit, val seed: (Call, Any?) -> Unit, val clear: (Call) -> Unit,
    val state: () -> boards.State, val watch: (mobile.Runner, mobile.Handler) -> Watching,
)

@Suppress("UNCHECKED_CAST")
private fun <M> port(
    own: Any, get: () -> M, waiting: () -> M, set: (Call, M) -> Unit, seed: (Call, M) -> Unit, clear: (Call) -> Unit, state: () -> boards.State, watch: (mobile.Runner, mobile.Handler) -> Watching,
) = BoardPort(own, get, waiting, { c, x -> set(c, x as M) }, { c, x -> seed(c, x as M) }, clear, state, watch)

private fun bound(own: Any, b: boards.Board): BoardPort = when (own) {
    is mobile.IntKey -> b.intVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.FloatKey -> b.floatVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.BoolKey -> b.boolVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.TextKey -> b.textVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.BytesKey -> b.bytesVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.TimeKey -> b.timeVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.DurationKey -> b.durationVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.ListKey -> b.listVar(own).let { port(it, it::get, it::waiting, it::set, it::seed, it::clear, it::state, it::watch) }
    else -> error("no such key: $own")
}

/** Waits for the network. A cancelled call ends, and what was sent may have been stored. */
private suspend fun <T> asked(f: (Call) -> T): T = suspendCancellableCoroutine { waiting ->
    val call = Boards.newCall()
    waiting.invokeOnCancellation { call.giveUp() }
    opening.launch { waiting.resumeWith(runCatching { calling { f(call) } }) }
}

private fun problemIn(text: String): PantryException? = if (text.isEmpty()) null else failure(text)

private fun moment(millis: Long): Instant? = if (millis == 0L) null else Instant.ofEpochMilli(millis)

/** A key's variable on a board. */
class BoardVariable<T> internal constructor(internal val key: Key<T>, internal val port: BoardPort) {
    private val turn = Mutex()

    /** The newest known value, or else the default. It does not wait. */
    val value: T get() = calling { key.out(port.get()) }

    /** What is known. It does not wait. */
    val known: Known<T>
        get() = calling {
            val s = port.state()
            Known(
                key.out(port.get()), key.out(port.waiting()), Phase.entries.first { kebab(it.name) == s.phase }, s.found, s.mine, s.queued.toInt(), s.version,
                moment(s.updated), moment(s.asOf), s.by, problemIn(s.trouble),
            )
        }

    /** The writes of a variable are sent in the order of their calls. */
    internal suspend fun <R> inTurn(f: (Call) -> R): R = turn.withLock { asked(f) }

    /** Stores a value, even if somebody else has stored one meanwhile. */
    suspend fun set(x: T) = inTurn { port.set(it, key.into(x)) }

    /** Stores a value if nothing is stored. */
    suspend fun seed(x: T) = inTurn { port.seed(it, key.into(x)) }

    /** Removes what is stored. */
    suspend fun clear() = inTurn { port.clear(it) }

    /** What is known now, and the newest after each change of it. Slow collectors skip. */
    val flow: StateFlow<Known<T>> by lazy { changing(port.watch) { known } }
}

/** Adds a number on the server, so that the additions of all phones count, and returns the sum. */
@JvmName("addInt") suspend fun BoardVariable<Int>.add(n: Int): Int = inTurn { (port.own as boards.IntVar).add(it, n.toLong()).toInt() }
@JvmName("addLong") suspend fun BoardVariable<Long>.add(n: Long): Long = inTurn { (port.own as boards.IntVar).add(it, n) }
@JvmName("addFloat") suspend fun BoardVariable<Float>.add(n: Float): Float = inTurn { (port.own as boards.FloatVar).add(it, Kind.exact(n)).toFloat() }
@JvmName("addDouble") suspend fun BoardVariable<Double>.add(n: Double): Double = inTurn { (port.own as boards.FloatVar).add(it, n) }

/** Stores n if it is larger than the stored value, and returns what is stored. */
@JvmName("raiseInt") suspend fun BoardVariable<Int>.raise(n: Int): Int = inTurn { (port.own as boards.IntVar).raise(it, n.toLong()).toInt() }
@JvmName("raiseLong") suspend fun BoardVariable<Long>.raise(n: Long): Long = inTurn { (port.own as boards.IntVar).raise(it, n) }
@JvmName("raiseDouble") suspend fun BoardVariable<Double>.raise(n: Double): Double = inTurn { (port.own as boards.FloatVar).raise(it, n) }

/** Stores n if it is smaller than the stored value, and returns what is stored. */
@JvmName("lowerInt") suspend fun BoardVariable<Int>.lower(n: Int): Int = inTurn { (port.own as boards.IntVar).lower(it, n.toLong()).toInt() }
@JvmName("lowerLong") suspend fun BoardVariable<Long>.lower(n: Long): Long = inTurn { (port.own as boards.IntVar).lower(it, n) }
@JvmName("lowerDouble") suspend fun BoardVariable<Double>.lower(n: Double): Double = inTurn { (port.own as boards.FloatVar).lower(it, n) }

/** Appends items at the end. With unique, items that the list has are left out. */
suspend fun <E> BoardVariable<List<E>>.append(vararg some: E, unique: Boolean = false) = inTurn { (port.own as boards.ListVar).append(it, key.of(some.toList()), unique) }

/** Removes the first item that equals each of some. With all, every equal item. */
suspend fun <E> BoardVariable<List<E>>.remove(vararg some: E, all: Boolean = false) = inTurn { (port.own as boards.ListVar).remove(it, key.of(some.toList()), all) }

/**
 * Removes an item and returns it: 0 is the first, -1 the last. Each caller gets another item. null means that
 * there is none. It can't be queued: without a network the code is UNREACHABLE.
 */
suspend fun <E> BoardVariable<List<E>>.take(at: Int): E? = inTurn { c -> orNull { key.out((port.own as boards.ListVar).take(c, at.toLong())).single() } }

/** A collection on a board, as far as is known. */
class BoardRecords<T> internal constructor(private val key: RecordsKey<T>, private val r: boards.Records) {
    /** All known records that can be read, by their ids, in order. It does not wait. */
    val all: Map<String, T> get() = calling { readable(key, r.ids(), r::get) }

    /** The known record of an id, or null. If it is there and can't be read, an exception. */
    operator fun get(id: String): T? = orNull { r.get(id) }?.let { calling { key.value(it) } }

    /** Stores a record under a new random id, and returns the id, which is valid without a network too. */
    suspend fun add(x: T): String = asked { r.add(it, key.record(x)) }

    /** Stores a record under an id, and replaces an existing one. */
    suspend fun put(id: String, x: T) = asked { r.put(it, id, key.record(x)) }

    /** Removes a record if there is one. */
    suspend fun drop(id: String) = asked { r.drop(it, id) }

    /** Removes all records. */
    suspend fun clear() = asked { r.clear(it) }

    /** All known records now, and after each change. */
    val flow: StateFlow<Map<String, T>> by lazy { changing(r::watch) { all } }
}

/** A board that an app has joined. */
class Board private constructor(private val b: boards.Board) : AutoCloseable {
    private val variables = ConcurrentHashMap<Any, Any>()

    @Suppress("UNCHECKED_CAST")
    private fun <V : Any> of(key: Any, make: () -> V): V = variables.getOrPut(key) { calling(make) } as V

    operator fun <T> get(key: Key<T>): BoardVariable<T> = of(key) { BoardVariable(key, bound(key.own, b)) }
    operator fun <T> get(key: RecordsKey<T>): BoardRecords<T> = of(key) { BoardRecords(key, b.records(key.own)) }

    /** Waits until the server has returned the values of all variables. */
    suspend fun ready() = asked { b.ready(it) }

    /** How many changes wait to be sent. */
    val pending: Int get() = b.pending().toInt()

    /** Why the server can't be reached now; null if it can. */
    val problem: PantryException? get() = problemIn(b.trouble())

    /** Stops requests for changes, for example while the app is not visible, until resume. */
    fun pause() = b.pause()
    fun resume() = b.resume()

    /** The queue stays stored. */
    override fun close() = calling { b.close() }

    companion object {
        /** Joins the board of a link. It needs no network. offline is a directory of the app, for what can't be sent yet. */
        suspend fun join(
            link: String, declared: Declared, clientName: String = "", offline: String? = null, options: Options = Boards.newOptions(), onProblem: ((Problem) -> Unit)? = null,
        ): Board = withContext(Dispatchers.IO) {
            calling {
                if (clientName.isNotEmpty()) options.clientName(clientName)
                if (offline != null) options.offline(offline)
                if (onProblem != null) options.onProblem(here, problems(onProblem))
                Board(Boards.join(link, declared.keys, options))
            }
        }
    }
}
