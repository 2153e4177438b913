package main

import (
	"context"
	"sync"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/container"
	"fyne.io/fyne/v2/dialog"
	"fyne.io/fyne/v2/theme"
	"fyne.io/fyne/v2/widget"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/debugview"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

// A screen is what the app shows. Its fields are of the thread that draws.
type screen struct {
	do     func(func()) // runs something there
	ns     *pantry.Namespace
	crops  pantry.Records[keys.Planting]
	units  pantry.Var[string]
	window fyne.Window
	rows   []*row
	list   *fyne.Container // the plantings
	undo   *fyne.Container // puts back what was removed last
	notice note
	shown  int               // how many problems of the namespace were shown
	home   fyne.CanvasObject // what is seen but for a form
	writes sync.WaitGroup
	end    func()
	ended  sync.WaitGroup
	view   *debugview.View
}

// newScreen makes the screen of a namespace in a window, and follows what is stored until close.
func newScreen(ns *pantry.Namespace, w fyne.Window, do func(func())) (s *screen, err error) {
	s = &screen{do: do, ns: ns, crops: keys.Plantings.In(ns), units: keys.Units.In(ns), window: w, list: container.NewVBox(), undo: container.NewVBox(), notice: newNote()}
	if s.view, err = debugview.Open(ns); err != nil { // nothing, unless built with -tags pantrydebug
		return nil, err
	}
	s.rows = []*row{on(s, keys.ReminderHour), on(s, keys.Units), on(s, keys.Plot)}
	head := widget.NewLabelWithStyle("Plotbook", fyne.TextAlignLeading, fyne.TextStyle{Bold: true})
	head.SizeName = theme.SizeNameHeadingText
	all := container.NewVBox(head)
	for _, r := range s.rows {
		all.Add(r.object)
	}
	grows := widget.NewLabelWithStyle("What grows where", fyne.TextAlignLeading, fyne.TextStyle{Bold: true})
	grows.SizeName = theme.SizeNameSubHeadingText
	all.Add(container.NewBorder(nil, nil, grows, widget.NewButton("Add", s.add)))
	all.Add(s.list)
	all.Add(s.undo)
	all.Add(s.notice.Label)
	all.Add(widget.NewButton("Reset everything…", s.reset))
	if link := s.view.Link(); link != "" {
		all.Add(widget.NewLabel(link))
	}
	s.home = container.NewVScroll(container.NewPadded(all))
	w.SetContent(s.home)
	w.Resize(fyne.NewSize(390, 844))

	ctx, stop := context.WithCancel(context.Background())
	s.end = stop
	s.ended.Go(func() {
		for range ns.Watch(ctx, keys.All()...) { // the first values and each later change, by anybody
			do(s.follow)
		}
	})
	return s, nil
}

// on returns the row of a key of the namespace.
func on[T any](s *screen, k pantry.Key[T]) *row {
	v := k.In(s.ns)
	var w writer
	return newRow(of(k, v.Get, v.Set), func(store func() error, done func(error)) {
		w.write(&s.writes, store, func(err error) { s.do(func() { done(err) }) })
	})
}

// follow shows what is stored.
func (s *screen) follow() {
	for _, r := range s.rows {
		r.follow()
	}
	s.list.RemoveAll()
	for _, id := range keys.ByBed(s.crops) {
		s.list.Add(s.planting(id))
	}
	if found := s.ns.Problems(); len(found) > s.shown {
		s.shown = len(found)
		s.notice.say(found[len(found)-1].String(), widget.WarningImportance)
	}
	s.home.Refresh() // the list is of another height
}

// stored makes one write off the thread that draws, and says there how it ended.
func (s *screen) stored(write func() error, done func(error)) {
	s.writes.Go(func() {
		err := write()
		s.do(func() { done(err) })
	})
}

func (s *screen) reset() {
	dialog.ShowConfirm("Everything goes", "Settings and plantings are as at the first launch then.", func(yes bool) {
		if yes {
			s.stored(s.ns.Reset, func(err error) {
				if err != nil {
					s.notice.say("Nothing was reset: "+err.Error(), widget.DangerImportance)
					return
				}
				for _, r := range s.rows {
					r.shows(r.shown())
				}
				s.notice.say("Everything is as at the first launch.", widget.MediumImportance)
			})
		}
	}, s.window)
}

// close waits for what is on its way to the disk.
func (s *screen) close() error {
	s.end()
	s.ended.Wait()
	s.writes.Wait()
	return s.view.Close()
}
