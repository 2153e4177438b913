package main

import (
	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/container"
	"fyne.io/fyne/v2/layout"
	"fyne.io/fyne/v2/theme"
	"fyne.io/fyne/v2/widget"
)

// A row is a setting on the screen: a label, an input, and a note. Only the
// thread that draws uses it.
type row struct {
	setting
	input
	note
	object fyne.CanvasObject                          // all of it
	write  func(store func() error, done func(error)) // stores, and calls done on the thread that draws
	wrote  int                                        // how often something was to be stored
	held   bool                                       // the shown text could not be stored, and stays
	onWay  bool                                       // the shown text is being stored
	last   string                                     // what is stored, as it was shown last
}

// newRow returns the row of a setting, which stores with write.
func newRow(s setting, write func(store func() error, done func(error))) *row {
	r := &row{setting: s, note: newNote(), write: write}
	r.input = inputOf(s, r.changed, r.left)
	about := widget.NewLabel(heading(s.About))
	about.SizeName = theme.SizeNameCaptionText
	r.object = container.New(layout.NewCustomPaddedVBoxLayout(-6), about, r.input.object, r.note.Label)
	r.shows(s.shown())
	return r
}

func (r *row) shows(now string) {
	r.last, r.held = now, false
	r.show(now)
	r.say("", widget.MediumImportance)
}

// changed stores what was typed, or says why it won't do.
func (r *row) changed(typed string) {
	if _, err := r.plain(typed); err != nil {
		r.held = true
		r.say(err.Error(), widget.DangerImportance)
		return
	}
	r.say("", widget.MediumImportance)
	r.wrote++
	this := r.wrote
	r.held, r.onWay = false, true
	r.write(func() error { return r.store(typed) }, func(err error) {
		if this != r.wrote {
			return // a newer one is on its way
		}
		r.onWay = false
		if err != nil {
			r.held, r.last = true, r.shown()
			r.say("Not stored: "+err.Error(), widget.DangerImportance)
			return
		}
		r.follow()
	})
}

// follow shows what is stored. A text that was refused stays.
func (r *row) follow() {
	now := r.shown()
	switch plain, err := r.plain(r.typed()); {
	case r.onWay:
	case r.held && now != r.last:
		r.last = now
		r.say("Stored meanwhile: "+now, widget.WarningImportance)
	case r.held:
	case err != nil || plain != now: // 007 stays while it is typed
		r.shows(now)
	default:
		r.last = now
	}
}

// left is called when the field loses the focus. It shows the stored value in its usual form.
func (r *row) left() {
	if !r.held && !r.onWay {
		r.shows(r.shown())
	}
}
