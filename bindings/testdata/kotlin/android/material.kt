@file:Suppress("UNUSED_PARAMETER")

package androidx.compose.material3

fun TextField(value: String, onValueChange: (String) -> Unit) {}
fun Checkbox(checked: Boolean, onCheckedChange: (Boolean) -> Unit) {}
fun Text(text: String) {}
