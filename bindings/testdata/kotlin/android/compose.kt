// What docs/kotlin.md uses of Compose, as far as a compiler needs it.
@file:Suppress("UNUSED_PARAMETER")

package androidx.compose.runtime

import kotlinx.coroutines.CoroutineScope
import kotlinx.coroutines.MainScope
import kotlinx.coroutines.flow.StateFlow

annotation class Composable

open class State<T>(open val value: T)

class MutableState<T>(override var value: T) : State<T>(value)

fun <T> mutableStateOf(value: T) = MutableState(value)
fun <T> remember(make: () -> T): T = make()
fun <T> remember(key: Any?, make: () -> T): T = make()
fun <T> StateFlow<T>.collectAsState(): State<T> = State(value)
fun rememberCoroutineScope(): CoroutineScope = MainScope()
