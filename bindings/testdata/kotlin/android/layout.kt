package androidx.compose.foundation.layout

fun Column(content: () -> Unit) = content()
