/**
 * Shared boards for Kotlin, beside Pantry.kt and Records.kt, for apps whose library has package
 * shared: the same keys, on a board.
 *
 *     object Garden : Keys() {
 *         val tankLitres by whole(0, 0L..5000L, name = "tank/litres")
 *     }
 *     val board = Board.join(link, Garden, clientName = "tankwatch", offline = filesDir.path)
 *     board[Garden.tankLitres].flow.onEach { label.text = "${it.value} (${it.phase})" }.launchIn(scope)
 *     scope.launch { board[Garden.tankLitres].add(-10) }   // waits for the network; a cancelled call ends
 *
 * A write that is kept until the server is reached throws a PantryException with the code queued.
 */
package pantry

import java.time.Instant
import java.util.concurrent.ConcurrentHashMap
import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.Dispatchers
import kotlinx.coroutines.SupervisorJob
import kotlinx.coroutines.flow.Flow
import kotlinx.coroutines.launch
import kotlinx.coroutines.suspendCancellableCoroutine
import kotlinx.coroutines.sync.Mutex
import kotlinx.coroutines.sync.withLock
import mobile.Mobile
import mobile.Watching
import shared.Call
import shared.Options
import shared.Shared

/** What is known of a value: phase is unknown, current, sending, queued, stale, unreadable or refused. */
data class Known<T>(
    val value: T,
    val phase: String,
    val found: Boolean,
    val mine: Boolean,
    val queued: Long,
    val version: Long,
    val updated: Instant?, // by the server's clock
    val by: String,
    val trouble: PantryException?, // why it is as it is; null: all is well
)

/** A variable on a board, as the library has it. */
internal class SharedPort(
    val own: Any, val get: () -> Any?, val set: (Call, Any?) -> Unit, val seed: (Call, Any?) -> Unit, val clear: (Call) -> Unit,
    val state: () -> shared.State, val watch: (mobile.Runner, mobile.Handler) -> Watching,
)

@Suppress("UNCHECKED_CAST")
private fun <M> port(
    own: Any, get: () -> M, set: (Call, M) -> Unit, seed: (Call, M) -> Unit, clear: (Call) -> Unit, state: () -> shared.State, watch: (mobile.Runner, mobile.Handler) -> Watching,
) = SharedPort(own, get, { c, x -> set(c, x as M) }, { c, x -> seed(c, x as M) }, clear, state, watch)

private fun bound(own: Any, b: shared.Board): SharedPort = when (own) {
    is mobile.WholeKey -> b.whole(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.DecimalKey -> b.decimal(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.SwitchKey -> b.switch_(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.TextKey -> b.text(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.BytesKey -> b.bytes(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.TimeKey -> b.time(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.SpanKey -> b.span(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    is mobile.ListKey -> b.list(own).let { port(it, it::get, it::set, it::seed, it::clear, it::state, it::watch) }
    else -> error("no such key: $own")
}

private val asking = CoroutineScope(SupervisorJob() + Dispatchers.IO)

/** Waits for the network. A cancelled call ends, and what was sent may have been done. */
private suspend fun <T> asked(f: (Call) -> T): T = suspendCancellableCoroutine { waiting ->
    val call = Shared.newCall()
    waiting.invokeOnCancellation { call.giveUp() }
    asking.launch { waiting.resumeWith(runCatching { told { f(call) } }) }
}

private fun trouble(text: String): PantryException? =
    if (text.isEmpty()) null else PantryException(Mobile.code(text), Mobile.sentence(text), Exception(text))

/** A key's variable on a board. It may be used by several threads at once. */
class SharedVariable<T> internal constructor(private val key: Key<T>, internal val port: SharedPort, private val turn: Mutex) {
    /** What is known last, or else the default; it does not wait. */
    val value: T get() = told { key.out(port.get()) }

    /** What is known of it; it does not wait. */
    val known: Known<T>
        get() = told {
            val s = port.state()
            Known(key.out(port.get()), s.phase, s.found, s.mine, s.queued, s.version, s.updated.takeIf { it != 0L }?.let(Instant::ofEpochMilli), s.by, trouble(s.trouble))
        }

    /** What a variable is told is done in the order in which it was told. */
    internal suspend fun <R> inTurn(f: (Call) -> R): R = turn.withLock { asked(f) }

    /** Stores, even if somebody else wrote before. */
    suspend fun set(x: T) = inTurn { port.set(it, key.into(x)) }

    /** Stores where nothing is stored. */
    suspend fun seed(x: T) = inTurn { port.seed(it, key.into(x)) }

    /** Removes what is stored. */
    suspend fun clear() = inTurn { port.clear(it) }

    /** What is known now, and after each change of it. Slow collectors skip. */
    val flow: Flow<Known<T>> get() = changes(port.watch) { known }
}

/** Adds on the server, so that no addition is lost, and returns the sum. */
suspend fun SharedVariable<Long>.add(n: Long): Long = inTurn { (port.own as shared.Whole).add(it, n) }

/** Stores the larger of the stored value and n, and returns it. */
suspend fun SharedVariable<Long>.raise(n: Long): Long = inTurn { (port.own as shared.Whole).raise(it, n) }

/** Stores the smaller of the stored value and n, and returns it. */
suspend fun SharedVariable<Long>.lower(n: Long): Long = inTurn { (port.own as shared.Whole).lower(it, n) }

@JvmName("addDecimal")
suspend fun SharedVariable<Double>.add(x: Double): Double = inTurn { (port.own as shared.Decimal).add(it, x) }

/** Appends an item; with unique, unless it is there. */
suspend fun SharedVariable<List<String>>.append(item: String, unique: Boolean = false) = inTurn { (port.own as shared.List).append(it, item, unique) }

/** Removes the first item that is equal; with all, every one. */
suspend fun SharedVariable<List<String>>.remove(item: String, all: Boolean = false) = inTurn { (port.own as shared.List).remove(it, item, all) }

/** Takes an item out, so that no one else gets it: 0 is the first, -1 the last. The code is absent if there is none. */
suspend fun SharedVariable<List<String>>.take(at: Long): String = inTurn { (port.own as shared.List).take(it, at) }

/** A collection on a board, as far as is known. */
class SharedRecords<T> internal constructor(private val key: RecordsKey<T>, private val r: shared.Records) {
    val all: Map<String, T> get() = told { readable(key, r.ids(), r::get) }
    suspend fun add(x: T): String = asked { r.add(it, key.record(x)) }
    suspend fun put(id: String, x: T) = asked { r.put(it, id, key.record(x)) }
    suspend fun drop(id: String) = asked { r.drop(it, id) }
    suspend fun clear() = asked { r.clear(it) }
    val flow: Flow<Map<String, T>> get() = changes(r::watch) { all }
}

/** A board that an app has joined. */
class Board private constructor(private val b: shared.Board) : AutoCloseable {
    private val turns = ConcurrentHashMap<Key<*>, Mutex>()

    operator fun <T> get(key: Key<T>): SharedVariable<T> = told { SharedVariable(key, bound(key.own, b), turns.getOrPut(key) { Mutex() }) }
    operator fun <T> get(key: RecordsKey<T>): SharedRecords<T> = told { SharedRecords(key, b.records(key.own)) }

    /** Waits for the first answer. */
    suspend fun ready() = asked { b.ready(it) }

    /** How many changes wait to be sent. */
    val pending: Long get() = b.pending()

    /** Why the server can't be reached at present; null where it can. */
    val trouble: PantryException? get() = trouble(b.trouble())

    /** Nothing is asked for, as while the app is not seen, until resume. */
    fun pause() = b.pause()
    fun resume() = b.resume()

    override fun close() = told { b.close() }

    companion object {
        /** Joins the board of a link; it needs no network. offline is a directory of the app's own, for what can't be sent yet. */
        fun join(link: String, keys: Keys, clientName: String = "", offline: String? = null, options: Options = Shared.newOptions()): Board = told {
            if (clientName.isNotEmpty()) options.clientName(clientName)
            if (offline != null) options.offline(offline)
            Board(Shared.join(link, keys.keys, options))
        }
    }
}
