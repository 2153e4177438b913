import java.time.Duration
import java.time.Instant
import kotlin.system.exitProcess
import kotlinx.coroutines.*
import kotlinx.coroutines.flow.*
import pantry.*

enum class Units { METRIC, IMPERIAL, BED_LENGTHS }

class App : Keys() {
    val reminderHour by whole(18, 0L..23L, about = "when to remind")
    val exact by whole()
    val spacingM by decimal(0.3, 0.0..5.0)
    val frostWarning by bool(name = "frost/warning")
    val plot by text()
    val units by choice(Units.IMPERIAL)
    val gateCode by text(sealed = true)
    val photo by bytes()
    val sown by time()
    val pause by span(Duration.ofSeconds(90))
    val hoseQueue by list(keep = 3)
    val plantings by records<Planting>({ setText("crop", it.crop).setText("bed", it.bed).setDecimal("spacing-m", it.spacingM).setTime("sown", it.sown.toEpochMilli()) }) {
        Planting(text("crop"), text("bed"), decimal("spacing-m"), Instant.ofEpochMilli(time("sown")))
    }
}

data class Planting(val crop: String, val bed: String, val spacingM: Double, val sown: Instant)

val beans = Planting("beans \uD83C\uDF31", "C4", 5.0, Instant.ofEpochMilli(1777799564123))

fun open(dir: String, app: App) = Pantry.open(dir, "plotbook", app, seal = ByteArray(32))

fun same(want: Any?, got: Any?) = check(want == got) { "want $want, got $got" }

fun main(args: Array<String>) {
    try {
        runBlocking { play(args[0], args[1], args.drop(2)) }
    } catch (e: Throwable) {
        e.printStackTrace()
        exitProcess(1)
    }
    println("ok")
    exitProcess(0)
}

suspend fun play(scene: String, dir: String, more: List<String>) {
    val app = App()
    val p = open(dir, app)
    when (scene) {
        "write" -> {
            same(Units.IMPERIAL, p[app.units].value)
            p[app.reminderHour].set(7)
            p[app.exact].set(9007199254740993)
            p[app.spacingM].set(5.0)
            p[app.frostWarning].set(true)
            p[app.plot].set("C4 \uD83C\uDF31")
            p[app.units].set(Units.BED_LENGTHS)
            p[app.gateCode].set("a word that nobody reads")
            p[app.photo].set(byteArrayOf(0, -1, 7))
            p[app.sown].set(Instant.ofEpochMilli(1777799564123))
            p[app.pause].set(Duration.ofMillis(1500))
            p[app.hoseQueue].set(listOf("C4"))
            p[app.hoseQueue].append("B2")
            p[app.hoseQueue].append("C4", unique = true)
            same("1", p[app.plantings].add(beans))
            p[app.plantings].put("own", beans.copy(bed = "B2"))
            println("ok")
            System.out.flush()
            ProcessBuilder("kill", "-9", ProcessHandle.current().pid().toString()).start()
            delay(60_000)
        }
        "read" -> {
            same(7L, p[app.reminderHour].value)
            same(9007199254740993, p[app.exact].value)
            same(5.0, p[app.spacingM].value)
            same(true, p[app.frostWarning].value)
            same("C4 \uD83C\uDF31", p[app.plot].value)
            same(Units.BED_LENGTHS, p[app.units].value)
            same("a word that nobody reads", p[app.gateCode].value)
            same(listOf<Byte>(0, -1, 7), p[app.photo].value.toList())
            same(Instant.ofEpochMilli(1777799564123), p[app.sown].value)
            same(Duration.ofMillis(1500), p[app.pause].value)
            same(listOf("C4", "B2"), p[app.hoseQueue].value)
            same(mapOf("1" to beans, "own" to beans.copy(bed = "B2")), p[app.plantings].all)
            val file = java.io.File(p.path).readText()
            for (name in listOf("reminder-hour", "spacing-m", "frost/warning", "gate-code", "hose-queue", "bed-lengths", "\"value\":5.0"))
                check(file.contains(name)) { name }
            check(!file.contains("nobody reads"))
            p[app.plot].clear()
            same(false, p[app.plot].stored)
            p.reset()
            same(18L, p[app.reminderHour].value)
            p.close()
        }
        "refusals" -> {
            refused("invalid") { p[app.reminderHour].set(24) }
            refused("invalid") { app.reminderHour.parse("noon") }
            refused("misuse") { p[App().reminderHour].value }
            refused("misuse") { Pantry.open(dir, "other", object : Keys() { val n by whole(30, 0L..23L) }) }
            refused("invalid") { Pantry.open(dir, "Plot Book", App(), seal = ByteArray(32)) }
            same(7L, app.reminderHour.parse(" 7 "))
            same("7", app.reminderHour.format(7))
            p.close()
            refused("closed") { p[app.reminderHour].set(1) }
        }
        "records" -> {
            val all = p[app.plantings]
            same(null, all["1"])
            val id = all.add(beans)
            same(beans, all[id])
            p.commit {
                put(app.plantings, id, beans.copy(bed = "B2"))
                same("2", add(app.plantings, beans))
            }
            same(listOf("B2", "C4"), all.all.values.map { it.bed })
            p.commit { drop(app.plantings, "2") }
            coroutineScope {
                launch { all.put("own", beans.copy(crop = "peas")) }
                all.flow.first { it["own"]?.crop == "peas" }
            }
            all.drop(id)
            same(setOf("own"), all.all.keys)
            all.clear()
            same(0, all.all.size)
            // One that is not the app's own is left out, and named when it is asked for.
            val other = object : Keys() { val plantings by records<String>({ setText("crop", it) }) { text("crop") } }
            Pantry.open(dir, "plotbook", other, seal = ByteArray(32)).use { it[other.plantings].put("odd", "peas") }
            all.flow.first()
            same(0, all.all.size)
            refused("absent") { all["odd"] }
        }
        "count" -> repeat(more[0].toInt()) { p[app.exact].add(1) }
        "sum" -> same(more[0].toLong(), p[app.exact].value)
        "many" -> {
            p[app.reminderHour].set(7)
            var sum = 0L
            for (i in 1..10_000) {
                val v = p[app.reminderHour]
                for (k in 1..100) sum += v.value
            }
            same(7_000_000L, sum)
            Suite.nothingLeft()
        }
        "board" -> board(dir, more[0])
        "commit" -> {
            class Unwanted : Exception("the app wants it not")
            try {
                p.commit {
                    this[app.reminderHour] = 7
                    throw Unwanted()
                }
                error("it was not told")
            } catch (e: PantryException) {
                check(e.cause is Unwanted) { e.cause.toString() }
            }
            same(18L, p[app.reminderHour].value)
            p.commit {
                this[app.reminderHour] = this[app.reminderHour] + 1
                this[app.plot] = "C4"
                clear(app.units)
            }
            same(19L, p[app.reminderHour].value)
            same("C4", p[app.plot].value)
        }
        "flow" -> {
            val seen = mutableListOf<Long>()
            val n = p[app.exact]
            coroutineScope {
                val writes = launch { for (i in 1L..200L) n.set(i) }
                // The collector is busy until the last write.
                n.flow.onEach { seen.add(it); writes.join() }.first { it == 200L }
            }
            check(seen.size < 20) { "it skipped nothing: $seen" }
            check(seen == seen.sorted()) { seen.toString() }
            // Writes that nobody waits for are made in the order in which they were begun.
            for (round in 3L..60L) {
                coroutineScope { for (i in 0L..20L) launch { n.set(100 * round + i) } }
                same(100 * round + 20, n.value)
            }
            // It is told on the thread that the app collects on.
            val screen = java.util.concurrent.Executors.newSingleThreadExecutor { Thread(it, "screen") }.asCoroutineDispatcher()
            val threads = mutableSetOf<String>()
            withContext(screen) {
                launch(Dispatchers.Default) { n.set(1) }
                n.flow.onEach { threads.add(Thread.currentThread().name.substringBefore(" @")) }.first { it == 1L }
            }
            same(setOf("screen"), threads)
            screen.close()
            // A write that is given up does not hold whoever did.
            val given = CoroutineScope(Dispatchers.Default).launch { while (true) n.set(1) }
            delay(20)
            given.cancelAndJoin()
        }
    }
}

class Garden : Keys() {
    val tankLitres by whole(0, 0L..5000L, name = "tank/litres")
    val harvestKg by decimal(name = "harvest/total-kg")
    val gateOpen by bool(name = "gate/open")
    val notice by text(name = "gate/notice")
    val units by choice(Units.METRIC)
    val map by bytes(name = "map/small")
    val watered by time(name = "watered/C4")
    val pause by span(Duration.ofSeconds(90), name = "gate/pause")
    val hoseQueue by list(keep = 50, name = "hose/queue")
    val plantings by records<String>({ setText("crop", it) }) { text("crop") }
}

/** A board, through an outage: what is done meanwhile is kept, and counts once. */
suspend fun board(dir: String, link: String) {
    val g = Garden()
    val board = Board.join(link, g, clientName = "tankwatch", offline = dir, options = shared.Shared.newOptions().timeout(2000))
    val tank = board[g.tankLitres]
    tank.set(420)
    same(400L, tank.add(-20))
    same(1000L, tank.raise(1000))
    same(400L, tank.lower(400))
    same(1.5, board[g.harvestKg].add(1.5))
    board[g.gateOpen].set(true)
    board[g.notice].seed("Water at 6 \uD83C\uDF31")
    board[g.units].set(Units.BED_LENGTHS)
    board[g.map].set(byteArrayOf(0, -1, 7))
    board[g.watered].set(Instant.ofEpochMilli(1777799564123))
    board[g.pause].set(Duration.ofMillis(1500))
    board[g.hoseQueue].append("C4")
    board[g.hoseQueue].append("B2", unique = true)
    same("C4", board[g.hoseQueue].take(0))
    board[g.hoseQueue].remove("none")
    val id = board[g.plantings].add("beans")
    same(26, id.length) // made by the client
    board.ready()
    val other = Garden()
    Board.join(link, other, clientName = "shed").use { shed ->
        shed[other.plantings].flow.first { it[id] == "beans" }
        shed[other.tankLitres].flow.first { it.value == 400L && it.phase == "current" && !it.mine && it.by == "tankwatch" && it.updated != null && it.trouble == null }
        comes(shed[other.harvestKg], 1.5)
        comes(shed[other.gateOpen], true)
        comes(shed[other.notice], "Water at 6 \uD83C\uDF31")
        comes(shed[other.units], Units.BED_LENGTHS)
        shed[other.map].flow.first { it.value.toList() == listOf<Byte>(0, -1, 7) }
        comes(shed[other.watered], Instant.ofEpochMilli(1777799564123))
        comes(shed[other.pause], Duration.ofMillis(1500))
        comes(shed[other.hoseQueue], listOf("B2"))
        shed[other.plantings].drop(id)
    }
    refused("invalid") { tank.set(5001) }
    coroutineScope { for (i in 1L..50L) launch { tank.set(i) } }
    same(50L, tank.add(0)) // in the order in which they were begun
    tank.set(400)
    refused("absent") { board[g.hoseQueue].run { take(0); take(0) } }
    println("cut")
    System.out.flush()
    withTimeout(20_000) { while (board.trouble == null) delay(10) }
    same("unreachable", board.trouble?.code)
    refused("queued") { tank.add(-10) }
    same(1L, board.pending)
    same("queued", tank.known.phase)
    println("back")
    System.out.flush()
    withTimeout(20_000) { while (board.pending > 0) delay(10) }
    same(390L, tank.add(0))
    println("slow")
    System.out.flush()
    delay(500)
    // Who is cancelled waits no longer.
    val begun = System.nanoTime()
    val given = CoroutineScope(Dispatchers.Default).launch { tank.set(1) }
    delay(50)
    given.cancelAndJoin()
    check(System.nanoTime() - begun < 1_000_000_000) { "it was waited for" }
    board.close()
}

suspend fun <T> comes(v: SharedVariable<T>, want: T) = withTimeout(20_000) { v.flow.first { it.value == want } }

suspend fun refused(code: String, f: suspend () -> Unit) {
    try {
        f()
    } catch (e: PantryException) {
        same(code, e.code)
        check(e.sentence.length > 8) { e.sentence }
        return
    }
    error("not refused: $code")
}
