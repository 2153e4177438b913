package android.widget

import android.text.Editable
import android.text.TextWatcher
import androidx.activity.ComponentActivity

open class View {
    private var listener: ((View) -> Unit)? = null
    var focused = false
    fun hasFocus() = focused
    fun setOnClickListener(f: (View) -> Unit) {
        listener = f
    }

    open fun click() {
        listener?.invoke(this)
    }
}

class EditText(@Suppress("UNUSED_PARAMETER") on: ComponentActivity) : View() {
    private var listener: TextWatcher? = null
    var error: CharSequence? = null
    var text = Editable("")
        private set

    fun setText(text: CharSequence) {
        this.text = Editable(text.toString())
        listener?.afterTextChanged(this.text)
    }

    fun addTextChangedListener(l: TextWatcher) {
        listener = l
    }
}

class CheckBox(@Suppress("UNUSED_PARAMETER") on: ComponentActivity) : View() {
    var text: CharSequence = ""
    var isChecked = false
    override fun click() {
        isChecked = !isChecked
        super.click()
    }
}

class LinearLayout(@Suppress("UNUSED_PARAMETER") on: ComponentActivity) : View() {
    val views = mutableListOf<View>()
    var orientation = 0
    fun addView(v: View) {
        views.add(v)
    }

    companion object {
        const val VERTICAL = 1
    }
}
