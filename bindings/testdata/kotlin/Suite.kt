import java.time.Duration
import java.time.Instant
import kotlin.system.exitProcess
import kotlinx.coroutines.*
import kotlinx.coroutines.flow.*
import pantry.*

enum class Units { METRIC, IMPERIAL, BED_LENGTHS }

class App : Declared() {
    val reminderHour by int(18, 0..23, about = "when to remind")
    val exact by long()
    val spacingM by double(0.3, 0.0..5.0)
    val scale by float(0.1f, 0f..2f)
    val frostWarning by bool(name = "frost/warning")
    val plot by text()
    val bed by text("A1") { if (Regex("[A-D][1-9]").matches(it)) null else "A bed is a letter from A to D and a digit." }
    val units by choice(Units.IMPERIAL)
    val gateCode by text(sealed = true)
    val photo by bytes()
    val sown by time()
    val pause by duration(Duration.ofSeconds(90))
    val hoseQueue by list(Kind.text, keep = 3)
    val readings by list(Kind.double)
    val counts by list(Kind.int)
    val days by list(Kind.time)
    val seasons by list(Kind.choice<Units>())
    val plantings by records {
        val crop = member(Planting::crop, Kind.text)
        val bed = member(Planting::bed, Kind.text, "A1")
        val spacing = member(Planting::spacingM, Kind.double, 0.3)
        val sown = member(Planting::sown, Kind.time, Instant.EPOCH)
        val units = member(Planting::units, Kind.choice(), Units.METRIC)
        val tags = member(Planting::tags, Kind.list(Kind.text), emptyList())
        made { Planting(crop(), bed(), spacing(), sown(), units(), tags()) }
    }
}

data class Planting(val crop: String, val bed: String, val spacingM: Double, val sown: Instant, val units: Units, val tags: List<String>)

val beans = Planting("beans \uD83C\uDF31", "C4", 5.0, Instant.ofEpochMilli(1777799564123), Units.BED_LENGTHS, listOf("climbing"))

suspend fun open(dir: String, app: App) = Pantry.open(dir, "plotbook", app, seal = ByteArray(32))

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
            same(0.1f, p[app.scale].value)
            p[app.scale].set(0.7f)
            same(0.8f, p[app.scale].add(0.1f))
            p[app.readings].append(5.0, 0.25)
            p[app.counts].append(7, 8)
            p[app.days].append(Instant.ofEpochMilli(1777799564123))
            p[app.seasons].append(Units.BED_LENGTHS)
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
            same(7, p[app.reminderHour].value)
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
            same(0.8f, p[app.scale].value)
            same(listOf(5.0, 0.25), p[app.readings].value)
            same(listOf(7, 8), p[app.counts].value)
            same(listOf(Instant.ofEpochMilli(1777799564123)), p[app.days].value)
            same(listOf(Units.BED_LENGTHS), p[app.seasons].value)
            same(mapOf("1" to beans, "own" to beans.copy(bed = "B2")), p[app.plantings].all)
            val file = java.io.File(p.path).readText()
            for (name in listOf("reminder-hour", "spacing-m", "frost/warning", "gate-code", "hose-queue", "bed-lengths", "\"value\":5.0", "\"value\":0.7"))
                check(file.contains(name)) { name }
            check(!file.contains("nobody reads"))
            p[app.plot].clear()
            same(false, p[app.plot].stored)
            p.reset()
            same(18, p[app.reminderHour].value)
            p.close()
        }
        "refusals" -> {
            refused(Code.INVALID) { p[app.reminderHour].set(24) }
            refused(Code.INVALID) { app.reminderHour.parse("noon") }
            same("A bed is a letter from A to D and a digit.", refused(Code.INVALID) { p[app.bed].set("9z") })
            p[app.bed].set("B2")
            refused(Code.MISUSE) { p[App().reminderHour].value }
            refused(Code.MISUSE) { Pantry.open(dir, "other", object : Declared() { val n by int(30, 0..23) }) }
            refused(Code.INVALID) { Pantry.open(dir, "Plot Book", App(), seal = ByteArray(32)) }
            same(7, app.reminderHour.parse(" 7 "))
            same("7", app.reminderHour.format(7))
            same(null, p[app.hoseQueue].take(0))
            p.close()
            refused(Code.CLOSED) { p[app.reminderHour].set(1) }
            // A stored value of another kind, or too large for an Int, shows the default and says why.
            val texts = object : Declared() { val reminderHour by text(); val many by long() }
            Pantry.open(dir, "odd", texts).use {
                it[texts.reminderHour].set("noon")
                it[texts.many].set(1L shl 40)
            }
            val numbers = object : Declared() { val reminderHour by int(18); val many by int(3) }
            val found = java.util.concurrent.LinkedBlockingQueue<Problem>()
            Pantry.opening(dir, "odd", numbers).await().close()
            Pantry.open(dir, "odd", numbers, onProblem = found::add).use {
                same(18, it[numbers.reminderHour].value)
                same(Code.WRONG_KIND, it[numbers.reminderHour].problem?.code)
                same(false, it[numbers.reminderHour].stored)
                same(3, it[numbers.many].flow.value)
                same(Code.INVALID, it[numbers.many].problem?.code)
                it[numbers.many].set(4)
                same(null, it[numbers.many].problem)
                same("reminder-hour", found.poll(20, java.util.concurrent.TimeUnit.SECONDS)?.name)
            }
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
            val other = object : Declared() { val plantings by records { val size = member(Pot::size, Kind.int); made { Pot(size()) } } }
            Pantry.open(dir, "plotbook", other, seal = ByteArray(32)).use { it[other.plantings].put("odd", Pot(3)) }
            withTimeout(20_000) { while (runCatching { all["odd"] }.isSuccess) delay(5) }
            same(0, all.all.size)
            refused(Code.ABSENT) { all["odd"] }
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
            check(p[app.reminderHour] === p[app.reminderHour]) { "the same key is another variable" }
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
            same(18, p[app.reminderHour].value)
            p.commit {
                this[app.reminderHour] = this[app.reminderHour] + 1
                this[app.plot] = "C4"
                clear(app.units)
            }
            same(19, p[app.reminderHour].value)
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
            // Concurrent writes are made in the order in which they began.
            for (round in 3L..60L) {
                coroutineScope { for (i in 0L..20L) launch { n.set(100 * round + i) } }
                same(100 * round + 20, n.value)
            }
            // The collector runs on the thread of the app.
            val screen = java.util.concurrent.Executors.newSingleThreadExecutor { Thread(it, "screen") }.asCoroutineDispatcher()
            val threads = mutableSetOf<String>()
            withContext(screen) {
                launch(Dispatchers.Default) { n.set(1) }
                n.flow.onEach { threads.add(Thread.currentThread().name.substringBefore(" @")) }.first { it == 1L }
            }
            same(setOf("screen"), threads)
            screen.close()
            // A write that is given up does not hold its caller.
            val given = CoroutineScope(Dispatchers.Default).launch { while (true) n.set(1) }
            delay(20)
            given.cancelAndJoin()
        }
    }
}

data class Pot(val size: Int)

class Garden : Declared() {
    val tankLitres by int(0, 0..5000, name = "tank/litres")
    val visits by long()
    val harvestKg by double(name = "harvest/total-kg")
    val scale by float(name = "scale")
    val gateOpen by bool(name = "gate/open")
    val notice by text(name = "gate/notice")
    val units by choice(Units.METRIC)
    val map by bytes(name = "map/small")
    val watered by time(name = "watered/C4")
    val pause by duration(Duration.ofSeconds(90), name = "gate/pause")
    val hoseQueue by list(Kind.text, keep = 50, name = "hose/queue")
    val readings by list(Kind.double)
    val pots by records { val size = member(Pot::size, Kind.int); made { Pot(size()) } }
}

/** A board, through an outage: what is done meanwhile is kept, and counts once. */
suspend fun board(dir: String, link: String) {
    val g = Garden()
    val board = Board.join(link, g, clientName = "tankwatch", offline = dir, options = boards.Boards.newOptions().timeout(2000), onProblem = {})
    val tank = board[g.tankLitres]
    tank.set(420)
    same(400, tank.add(-20))
    same(1000, tank.raise(1000))
    same(400, tank.lower(400))
    same(1.5, board[g.harvestKg].add(1.5))
    same(2.5, board[g.harvestKg].raise(2.5))
    same(1.5, board[g.harvestKg].lower(1.5))
    same(0.1f, board[g.scale].add(0.1f))
    same(5000000000L, board[g.visits].add(5000000000L))
    board[g.readings].append(5.0, 0.25)
    board[g.readings].append(5.0, unique = true)
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
    val id = board[g.pots].add(Pot(7))
    same(26, id.length) // made by the client
    board.ready()
    val other = Garden()
    Board.join(link, other, clientName = "shed").use { shed ->
        shed[other.pots].flow.first { it[id] == Pot(7) }
        same(Pot(7), shed[other.pots][id])
        shed[other.tankLitres].flow.first { it.value == 400 && it.phase == Phase.CURRENT && !it.mine && it.by == "tankwatch" && it.updated != null && it.asOf != null && it.problem == null }
        comes(shed[other.visits], 5000000000L)
        comes(shed[other.readings], listOf(5.0, 0.25))
        comes(shed[other.scale], 0.1f)
        comes(shed[other.harvestKg], 1.5)
        comes(shed[other.gateOpen], true)
        comes(shed[other.notice], "Water at 6 \uD83C\uDF31")
        comes(shed[other.units], Units.BED_LENGTHS)
        shed[other.map].flow.first { it.value.toList() == listOf<Byte>(0, -1, 7) }
        comes(shed[other.watered], Instant.ofEpochMilli(1777799564123))
        comes(shed[other.pause], Duration.ofMillis(1500))
        comes(shed[other.hoseQueue], listOf("B2"))
        shed[other.pots].drop(id)
    }
    refused(Code.INVALID) { tank.set(5001) }
    coroutineScope { for (i in 1..50) launch { tank.set(i) } }
    same(50, tank.add(0)) // in the order in which they were begun
    tank.set(400)
    same("B2", board[g.hoseQueue].take(0))
    same(null, board[g.hoseQueue].take(0))
    println("cut")
    System.out.flush()
    withTimeout(20_000) { while (board.problem == null) delay(10) }
    same(Code.UNREACHABLE, board.problem?.code)
    same(390, tank.add(-10)) // it counts later
    same(1, board.pending)
    same(Phase.QUEUED, tank.known.phase)
    same(400 to 390, tank.known.value to tank.known.waiting)
    val kept = board[g.pots].add(Pot(9))
    same(26, kept.length)
    refused(Code.UNREACHABLE) { board[g.hoseQueue].take(0) }
    println("back")
    System.out.flush()
    withTimeout(20_000) { while (board.pending > 0) delay(10) }
    same(390, tank.add(0))
    withTimeout(20_000) { board[g.pots].flow.first { it[kept] == Pot(9) } }
    println("slow")
    System.out.flush()
    delay(500)
    // A cancelled call does not wait.
    val begun = System.nanoTime()
    val given = CoroutineScope(Dispatchers.Default).launch { tank.set(1) }
    delay(50)
    given.cancelAndJoin()
    check(System.nanoTime() - begun < 1_000_000_000) { "it was waited for" }
    board.close()
}

suspend fun <T> comes(v: BoardVariable<T>, want: T) = withTimeout(20_000) { v.flow.first { it.value == want } }

/** Returns the sentence of a refusal. */
suspend fun refused(code: Code, f: suspend () -> Unit): String {
    try {
        f()
    } catch (e: PantryException) {
        same(code, e.code)
        check(e.sentence.length > 8) { e.sentence }
        return e.sentence
    }
    error("not refused: $code")
}
