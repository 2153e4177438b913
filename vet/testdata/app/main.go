// Command app makes the mistakes that package vet finds.
package main

import (
	"context"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
	"github.com/small-pantry/pantry/vet/testdata/app/keys"
)

type planting struct {
	Crop string
	bed  string
	Then func()
}

var (
	hour      = pantry.Int("reminder-hour", 18)
	again     = pantry.Int("reminder-hour", 7)  // want `"reminder-hour" is declared a second time`
	nearly    = pantry.Int("reminder-hours", 7) // want `"reminder-hours" nearly matches "reminder-hour"` `"reminder-hours" nearly matches "reminder-hour"`
	best      = pantry.Int("best", 0)           // want `"best" is declared a second time \(also at keys.go`
	queue     = pantry.List[string]("queue")
	unused    = pantry.Bool("tip-seen", false)          // want `"tip-seen" is declared and never used`
	onlyRead  = pantry.Text("greeting", "")             // want `"greeting" is read and never written`
	written   = pantry.Text("note", "")                 // want `"note" is written and never read` `"note" is not passed to Declare`
	password  = pantry.Text("cloud-password", "")       // want `says that it is a secret, and the key is not Sealed`
	plantings = pantry.RecordsOf[planting]("plantings") // want `the field bed of planting does not survive` `the field Then of planting does not survive`
)

func main() {
	ns, err := pantry.Open("dir", "app", pantry.Declare(hour, again, nearly, best, queue, unused, onlyRead, password, plantings)) // want `what Open returns is never closed in main`
	if err != nil {
		panic(err)
	}
	h, b := hour.In(ns), best.In(ns)
	err = h.Set(h.Get() + 1) // want `loses what another writer adds between Get and Set: use Add`
	n := h.Get()
	err = h.Set(n - 10)                                      // want `use Add`
	err = queue.In(ns).Set(append(queue.In(ns).Get(), "C4")) // want `use Append`
	if 5 > b.Get() {
		err = b.Set(5) // want `use Raise`
	}
	if b.Get() > 3 {
		err = b.Set(3) // want `use Lower`
	}
	written.In(ns).Set("x") // want `the error of Set is dropped`
	_, _ = onlyRead.In(ns).Get(), password.In(ns).Get()
	err = password.In(ns).Set("rhubarb")
	err = ns.Put("reminder-huor", value.Int(1)) // want `no key declares the name "reminder-huor"; did you mean "reminder-hour"\?`
	_, _ = again.In(ns).Get(), nearly.In(ns).Get()
	err = again.In(ns).Set(1)
	err = nearly.In(ns).Set(1)
	_, err = plantings.In(ns).Add(planting{})
	_ = plantings.In(ns).Len()
	_ = keys.Best
	_ = err
}

func shared(b *board.Board) error {
	v := board.On(b, keys.Best)
	if err := b.Ready(context.Background()); err != nil { // want `Ready waits for the whole Timeout without a network`
		return err
	}
	return v.Set(context.Background(), v.Get()+1) // want `use Add`
}

type model struct{ ns *pantry.Namespace }

func (m model) Update(msg string) (model, func()) {
	if err := hour.In(m.ns).Set(3); err != nil { // want `Set waits for the disk in a function that draws`
		return m, nil
	}
	return m, nil
}
