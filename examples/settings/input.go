package main

import (
	"unicode"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/container"
	"fyne.io/fyne/v2/layout"
	"fyne.io/fyne/v2/theme"
	"fyne.io/fyne/v2/widget"

	"github.com/small-pantry/pantry/value"
)

// An input is where a value is changed: what it looks like follows from the key.
type input struct {
	object fyne.CanvasObject
	show   func(text string) // shows a value, which is not reported as a change
	typed  func() string
}

// steps is how many values a key may allow that are chosen by dragging.
const steps = 48

// inputOf makes the input of a key. It calls changed with the text after each change, and
// left when it is left.
func inputOf(s setting, changed func(typed string), left func()) input {
	lo, isWhole := s.Min.AsInt()
	hi, _ := s.Max.AsInt()
	switch {
	case len(s.Choices) > 0:
		return choice(s.Choices, changed)
	case s.Kind == value.KindInt && isWhole && hi-lo <= steps:
		return slide(lo, hi, changed)
	}
	l := &line{left: left}
	l.ExtendBaseWidget(l)
	l.PlaceHolder = s.Allowed()
	l.OnChanged = changed
	return input{l, func(text string) { quietly(&l.OnChanged, func() { l.SetText(text) }) }, func() string { return l.Text }}
}

// quietly does something while a listener is not called.
func quietly[F any](listener *F, f func()) {
	var none F
	kept := *listener
	*listener = none
	f()
	*listener = kept
}

// choice shows all choices at once.
func choice(of []string, changed func(string)) input {
	r := widget.NewRadioGroup(of, changed)
	r.Horizontal, r.Required = true, true
	return input{r, func(text string) { quietly(&r.OnChanged, func() { r.SetSelected(text) }) }, func() string { return r.Selected }}
}

// slide makes a slider for a whole number of a short range, with the number beside it.
func slide(lo, hi int64, changed func(string)) input {
	s := widget.NewSlider(float64(lo), float64(hi))
	now := widget.NewLabelWithStyle("", fyne.TextAlignTrailing, fyne.TextStyle{Bold: true})
	typed := func() string { return value.Int(int64(s.Value)).String() }
	s.OnChanged = func(float64) { now.SetText(typed()) }
	s.OnChangeEnded = func(float64) { changed(typed()) }
	width := container.New(layout.NewGridWrapLayout(fyne.NewSize(44, now.MinSize().Height)), now)
	return input{container.NewBorder(nil, nil, nil, width, s), func(text string) {
		v, err := value.Parse(value.KindInt, []byte(text))
		if n, ok := v.AsInt(); err == nil && ok {
			quietly(&s.OnChangeEnded, func() { s.SetValue(float64(n)) })
		}
		now.SetText(typed())
	}, typed}
}

// A line is an entry that calls a function when it is left.
type line struct {
	widget.Entry
	left func()
}

func (l *line) FocusLost() {
	l.Entry.FocusLost()
	l.left()
}

// A note is a sentence under an input, which takes no room while it is empty.
type note struct{ *widget.Label }

func newNote() note {
	n := note{widget.NewLabel("")}
	n.Wrapping = fyne.TextWrapWord
	n.SizeName = theme.SizeNameCaptionText
	n.Hide()
	return n
}

// say shows a sentence; importance is that of a label, and colours it.
func (n note) say(sentence string, importance widget.Importance) {
	n.Importance = importance
	n.Hidden = sentence == ""
	n.SetText(sentence)
	if c := fyne.CurrentApp().Driver().CanvasForObject(n.Label); c != nil && c.Content() != nil {
		c.Content().Refresh() // there is more below it, which moves
	}
}

// heading is what a key is about, as a heading.
func heading(about string) string {
	r := []rune(about)
	r[0] = unicode.ToUpper(r[0])
	return string(r)
}
