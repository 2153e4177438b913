package main

import (
	"errors"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/container"
	"fyne.io/fyne/v2/layout"
	"fyne.io/fyne/v2/theme"
	"fyne.io/fyne/v2/widget"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

// planting shows one, with what can be done to it.
func (s *screen) planting(id string) fyne.CanvasObject {
	p, found, err := s.crops.Lookup(id)
	if err != nil || !found {
		return widget.NewLabel("This planting can't be read.")
	}
	crop := widget.NewLabelWithStyle(p.Bed+"  "+p.Crop, fyne.TextAlignLeading, fyne.TextStyle{Bold: true})
	crop.Truncation = fyne.TextTruncateEllipsis
	says := "every " + p.Spacing(s.units.Get())
	if p.Sown != "" {
		says += ", sown " + p.Sown
	}
	more := widget.NewLabel(says)
	more.SizeName = theme.SizeNameCaptionText
	change := widget.NewButton("Change", func() { s.change(id, p) })
	remove := widget.NewButton("Remove", func() { s.remove(id, p) })
	change.Importance, remove.Importance = widget.LowImportance, widget.LowImportance
	both := container.NewCenter(container.NewHBox(change, remove))
	return container.NewVBox(widget.NewSeparator(), container.NewBorder(nil, nil, nil, both, container.New(layout.NewCustomPaddedVBoxLayout(-14), crop, more)))
}

// remove removes one; it can be put back.
func (s *screen) remove(id string, p keys.Planting) {
	s.stored(func() error { return s.crops.Drop(id) }, func(err error) {
		if err != nil {
			s.notice.say("Not removed: "+err.Error(), widget.DangerImportance)
			return
		}
		s.undo.Objects = []fyne.CanvasObject{widget.NewButton("Put "+p.Crop+" back", func() {
			s.undo.RemoveAll()
			s.stored(func() error { return s.crops.Put(id, p) }, s.said("Not put back"))
		})}
		s.undo.Refresh()
	})
}

// said says what did not work, when it did not.
func (s *screen) said(what string) func(error) {
	return func(err error) {
		if err != nil {
			s.notice.say(what+": "+err.Error(), widget.DangerImportance)
		}
	}
}

func (s *screen) add() {
	s.fill(keys.Planting{SpacingCm: keys.SpacingCm.Default()}, func(p keys.Planting) error {
		_, err := s.crops.Add(p)
		return err
	})
}

// change stores only what was changed here: what others change of it meanwhile stays.
func (s *screen) change(id string, was keys.Planting) {
	s.fill(was, func(now keys.Planting) error {
		_, err := s.crops.Update(id, func(p keys.Planting) (keys.Planting, error) {
			newer(&p.Crop, was.Crop, now.Crop)
			newer(&p.Bed, was.Bed, now.Bed)
			newer(&p.Sown, was.Sown, now.Sown)
			newer(&p.SpacingCm, was.SpacingCm, now.SpacingCm)
			return p, nil
		})
		if errors.Is(err, pantry.ErrAbsent) {
			return keys.Sentence("somebody removed it meanwhile")
		}
		return err
	})
}

func newer[T comparable](at *T, was, now T) {
	if was != now {
		*at = now
	}
}

// A form is a planting that is being filled in. Nothing of it is stored before it is whole.
type form struct {
	rows []*row
	note note
}

// fill shows a form for a planting, which its button stores.
func (s *screen) fill(p keys.Planting, store func(keys.Planting) error) {
	f := &form{note: newNote()}
	f.rows = []*row{part(keys.Crop, &p.Crop), part(keys.Bed, &p.Bed), part(keys.Sown, &p.Sown), part(keys.SpacingCm, &p.SpacingCm)}
	head := widget.NewLabelWithStyle("A planting", fyne.TextAlignLeading, fyne.TextStyle{Bold: true})
	head.SizeName = theme.SizeNameHeadingText
	all := container.NewVBox(head)
	for _, r := range f.rows {
		all.Add(r.object)
	}
	done := widget.NewButton("Store", nil)
	done.Importance = widget.HighImportance
	done.OnTapped = func() {
		if !f.whole() {
			return
		}
		done.Disable() // not twice
		filled := p
		s.stored(func() error { return store(filled) }, func(err error) {
			if err != nil {
				done.Enable()
				f.note.say("Not stored: "+err.Error(), widget.DangerImportance)
				return
			}
			s.window.SetContent(s.home) // not before it is confirmed
		})
	}
	all.Add(container.NewGridWithColumns(2, widget.NewButton("Leave", func() { s.window.SetContent(s.home) }), done))
	all.Add(f.note.Label)
	s.window.SetContent(container.NewVScroll(container.NewPadded(all)))
}

// whole says whether all parts would do, and under each that would not, why.
func (f *form) whole() bool {
	whole := true
	for _, r := range f.rows {
		if _, err := r.plain(r.typed()); err != nil {
			r.changed(r.typed())
			whole = false
		}
	}
	return whole
}

// part returns the row of a member of a planting, which is not stored by itself.
func part[T any](k pantry.Key[T], at *T) *row {
	return newRow(of(k, func() T { return *at }, func(x T) error { *at = x; return nil }), func(store func() error, done func(error)) { done(store()) })
}
