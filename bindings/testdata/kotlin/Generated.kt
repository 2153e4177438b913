package generated

import java.time.Instant
import kotlinx.coroutines.flow.*
import pantry.*

enum class Units { METRIC, IMPERIAL }
data class Planting(val bed: String, val crop: String, val done: Boolean, val spacingCm: Double)

class App : Keys() {
    val frostWarning by bool(false, about = "whether frost is likely", name = "frost/warning")
    val tankLitres by whole(400, 0L..5000L, name = "tank/litres")
    val spacingM by decimal(0.3, 0.0..5.0, name = "spacing-m")
    val plot by text("C4 \"north\" \$1", name = "plot")
    val units by choice(Units.METRIC, name = "units")
    val photo by bytes(name = "photo")
    val sown by time(Instant.parse("2026-05-03T09:12:44Z"), name = "sown")
    val hoseQueue by list(keep = 5, name = "hose/queue")
    // levels is a list, which the Kotlin package does not have; read it with the Go package.
    // per-bed is a map, which the Kotlin package does not have; read it with the Go package.
    val gateCode by text(sealed = true, name = "gate-code")
    val plantings by records<Planting>({ setText("bed", it.bed).setText("crop", it.crop).setSwitch("done", it.done).setDecimal("spacing-cm", it.spacingCm) }, name = "plantings") { Planting(text("bed"), text("crop"), switch_("done"), decimal("spacing-cm")) }
    // best is a records of kind int, which the Kotlin package does not have; read it with the Go package.
    // notes is a records of kind map, which the Kotlin package does not have; read it with the Go package.
}

// dir is a directory of the app's own.
fun open(dir: String, app: App): Pantry = Pantry.open(dir, "plotbook", app)

suspend fun use(p: Pantry, app: App) {
    val v = p[app.frostWarning]
    v.set(v.value)
    v.flow.collect { println(it) }
}
