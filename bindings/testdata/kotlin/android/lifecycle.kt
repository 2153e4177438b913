package androidx.lifecycle

import androidx.activity.ComponentActivity
import java.util.concurrent.Executors
import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.SupervisorJob
import kotlinx.coroutines.asCoroutineDispatcher

/** The thread that draws. */
val main = Executors.newSingleThreadExecutor { Thread(it, "main") }.asCoroutineDispatcher()

private val scope = CoroutineScope(SupervisorJob() + main)

val ComponentActivity.lifecycleScope: CoroutineScope get() = scope
