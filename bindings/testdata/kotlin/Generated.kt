package generated

import java.time.Instant
import kotlinx.coroutines.flow.*
import pantry.*

enum class Units { METRIC, IMPERIAL }
data class Planting(val bed: String, val crop: String, val done: Boolean, val spacingCm: Double)

class App : Declared() {
    val frostWarning by bool(false, about = "whether frost is likely", name = "frost/warning")
    val tankLitres by int(400, 0..5000, name = "tank/litres")
    val spacingM by double(0.3, 0.0..5.0, name = "spacing-m")
    val plot by text("C4 \"north\" \$1", name = "plot")
    val units by choice(Units.METRIC, name = "units")
    // bed (text) can't be declared in Kotlin as it is; read it with the Go package.
    val stamp by bytes(name = "stamp")
    // photo (bytes) can't be declared in Kotlin as it is; read it with the Go package.
    val sown by time(Instant.parse("2026-05-03T09:12:44Z"), name = "sown")
    val hoseQueue by list(Kind.text, keep = 5, name = "hose/queue")
    val levels by list(Kind.long, name = "levels")
    // per-bed (map) can't be declared in Kotlin as it is; read it with the Go package.
    val gateCode by text(sealed = true, name = "gate-code")
    val plantings by records(name = "plantings") {
        val bed = member(Planting::bed, Kind.text)
        val crop = member(Planting::crop, Kind.text)
        val done = member(Planting::done, Kind.bool)
        val spacingCm = member(Planting::spacingCm, Kind.double)
        made { Planting(bed(), crop(), done(), spacingCm()) }
    }
    // best (records of kind int) can't be declared in Kotlin as it is; read it with the Go package.
    // notes (records of kind map) can't be declared in Kotlin as it is; read it with the Go package.
}

// dir is a directory of the app.
suspend fun open(dir: String, app: App): Pantry = Pantry.open(dir, "plotbook", app)

suspend fun use(p: Pantry, app: App) {
    val v = p[app.frostWarning]
    v.set(v.value)
    v.flow.collect { println(it) }
}
