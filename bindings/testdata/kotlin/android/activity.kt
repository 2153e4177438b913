package androidx.activity

import android.app.Application
import android.os.Bundle
import android.widget.View

open class ComponentActivity {
    lateinit var application: Application
    lateinit var content: View

    protected open fun onCreate(savedInstanceState: Bundle?) {}

    fun setContentView(v: View) {
        content = v
    }

    fun create() = onCreate(null)
}
