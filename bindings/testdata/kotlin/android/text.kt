package android.text

class Editable(private val text: String) {
    override fun toString() = text
}

interface TextWatcher {
    fun beforeTextChanged(s: CharSequence, start: Int, count: Int, after: Int)
    fun onTextChanged(s: CharSequence, start: Int, before: Int, count: Int)
    fun afterTextChanged(typed: Editable)
}
