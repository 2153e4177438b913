// Drives the app of docs/kotlin.md: the first process types, the second finds it.
import android.widget.CheckBox
import android.widget.EditText
import android.widget.LinearLayout
import androidx.lifecycle.main
import java.io.File
import kotlin.system.exitProcess
import kotlinx.coroutines.delay
import kotlinx.coroutines.runBlocking
import kotlinx.coroutines.withContext
import kotlinx.coroutines.withTimeout
import rowanstreet.plotbook.MainActivity
import rowanstreet.plotbook.PlotbookApp

fun main(args: Array<String>) {
    try {
        runBlocking { screen(args[0], args[1]) }
    } catch (e: Throwable) {
        e.printStackTrace()
        exitProcess(1)
    }
    println("ok")
    exitProcess(0)
}

suspend fun screen(scene: String, dir: String) {
    val app = PlotbookApp().apply { filesDir = File(dir) }
    val activity = MainActivity().apply { application = app }
    withContext(main) { activity.create() }
    val (hour, imperial) = (activity.content as LinearLayout).views.let { it[0] as EditText to it[1] as CheckBox }
    suspend fun until(what: String, holds: suspend () -> Boolean) = withTimeout(20_000) {
        while (!withContext(main) { holds() }) delay(5)
        println(what)
    }
    when (scene) {
        "types" -> {
            until("the default") { hour.text.toString() == "18" && !imperial.isChecked }
            withContext(main) {
                hour.focused = true
                hour.setText("24")
            }
            until("refused") { hour.error == "\"24\" won't do. Enter a whole number from 0 to 23." }
            withContext(main) {
                hour.setText("2")
                hour.setText("21")
                imperial.click()
            }
            until("taken") { hour.error == null && app.pantry.await()[rowanstreet.plotbook.Settings.reminderHour].value == 21 }
            until("units") { app.pantry.await()[rowanstreet.plotbook.Settings.units].value == rowanstreet.plotbook.Units.IMPERIAL }
        }
        "finds" -> until("found") { hour.text.toString() == "21" && imperial.isChecked }
    }
}
