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
}

fun open(dir: String, app: App) = Pantry.open(dir, "plotbook", app, seal = ByteArray(32))

fun same(want: Any?, got: Any?) = check(want == got) { "want $want, got $got" }

fun main(args: Array<String>) {
    try {
        runBlocking { play(args[0], args[1]) }
    } catch (e: Throwable) {
        e.printStackTrace()
        exitProcess(1)
    }
    println("ok")
    exitProcess(0)
}

suspend fun play(scene: String, dir: String) {
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
            p[app.hoseQueue].set(listOf("C4", "B2"))
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
                launch { for (i in 1L..200L) n.set(i) }
                n.flow.onEach { seen.add(it); delay(2) }.first { it == 200L }
            }
            check(seen.size < 190) { "it skipped nothing" }
            check(seen == seen.sorted()) { seen.toString() }
            // A write that is given up does not hold whoever did.
            val given = CoroutineScope(Dispatchers.Default).launch { while (true) n.set(1) }
            delay(20)
            given.cancelAndJoin()
        }
    }
}

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
