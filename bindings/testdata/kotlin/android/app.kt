// What docs/kotlin.md uses of Android, as far as a screen can be driven without it.
package android.app

import java.io.File

open class Application {
    lateinit var filesDir: File
}
