package pantry_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/seal"
)

// temporary opens a namespace for an example, in a directory that goes away.
func temporary(opts ...pantry.Option) (ns *pantry.Namespace, done func()) {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		panic(err)
	}
	ns, err = pantry.Open(dir, "plotbook", opts...)
	if err != nil {
		panic(err)
	}
	return ns, func() {
		if err := errors.Join(ns.Close(), os.RemoveAll(dir)); err != nil {
			panic(err)
		}
	}
}

// A key with its default and its rule, and what an app does with it.
func Example() {
	reminderHour := pantry.Int("reminder-hour", 18).Between(0, 23)
	ns, done := temporary()
	defer done()
	hour := reminderHour.In(ns)

	fmt.Println("at the first launch:", hour.Get())
	fmt.Println(hour.Set(7), hour.Get())
	fmt.Println(hour.Set(31))
	_, err := reminderHour.Parse("half past six")
	fmt.Println(err)
	// Output:
	// at the first launch: 18
	// <nil> 7
	// set reminder-hour in plotbook: 31 is not from 0 to 23
	// "half past six" won't do. Enter a whole number from 0 to 23.
}

func ExampleBool() {
	ns, done := temporary()
	defer done()
	gate := pantry.Bool("gate/open", false).In(ns)
	fmt.Println(gate.Get(), gate.Set(true), gate.Get())
	// Output: false <nil> true
}

func ExampleInt() {
	ns, done := temporary()
	defer done()
	watered := pantry.Int("watered/C4", 0).In(ns)
	n, err := pantry.Add(watered, 1)
	fmt.Println(n, err)
	best, err := pantry.Raise(pantry.Int("harvest/heaviest-marrow-g", 0).In(ns), 2350)
	fmt.Println(best, err)
	// Output:
	// 1 <nil>
	// 2350 <nil>
}

func ExampleFloat() {
	ns, done := temporary()
	defer done()
	total := pantry.Float("harvest/total-kg", 0).In(ns)
	kg, err := pantry.Add(total, 1.5)
	fmt.Println(kg, err)
	// Output: 1.5 <nil>
}

// An empty text is a value: it is stored, and it is not the default.
func ExampleText() {
	ns, done := temporary()
	defer done()
	plot := pantry.Text("plot", "none yet").In(ns)
	fmt.Println(plot.Lookup())
	fmt.Println(plot.Set(""))
	bed, found, err := plot.Lookup()
	fmt.Printf("%q %v %v\n", bed, found, err)
	// Output:
	// none yet false <nil>
	// <nil>
	// "" true <nil>
}

func ExampleBytes() {
	ns, done := temporary()
	defer done()
	icon := pantry.Bytes("icon", nil).In(ns)
	fmt.Println(icon.Set([]byte{1, 2, 255}), icon.Get())
	// Output: <nil> [1 2 255]
}

func ExampleTime() {
	ns, done := temporary()
	defer done()
	sown := pantry.Time("sown", time.Time{}).In(ns)
	fmt.Println(sown.Get().IsZero())
	fmt.Println(sown.Set(time.Date(2026, 5, 3, 11, 0, 0, 0, time.FixedZone("", 7200))), sown.Get())
	// Output:
	// true
	// <nil> 2026-05-03 09:00:00 +0000 UTC
}

type Units string

func ExampleOneOf() {
	ns, done := temporary()
	defer done()
	key := pantry.OneOf[Units]("units", "metric", "imperial")
	units := key.In(ns)
	fmt.Println(units.Get(), units.Set("imperial"), units.Get())
	fmt.Println(units.Set("cubits"))
	_, err := key.Parse("cubits")
	fmt.Println(err)
	// Output:
	// metric <nil> imperial
	// set units in plotbook: "cubits" is not one of metric, imperial
	// "cubits" won't do. Enter one of metric, imperial.
}

func ExampleList() {
	ns, done := temporary()
	defer done()
	queue := pantry.List[string]("hose/queue").In(ns)
	beds, err := pantry.AppendUnique(queue, "C4", "B2", "C4")
	fmt.Println(beds, err)
	beds, err = pantry.Remove(queue, "C4")
	fmt.Println(beds, err)
	// Output:
	// [C4 B2] <nil>
	// [B2] <nil>
}

func ExampleMap() {
	ns, done := temporary()
	defer done()
	litres := pantry.Map[int]("water-by-bed", nil).In(ns)
	now, err := litres.Update(func(m map[string]int) (map[string]int, error) {
		m["C4"] += 10
		return m, nil
	})
	fmt.Println(now, err)
	// Output: map[C4:10] <nil>
}

func ExampleObject() {
	type Frame struct {
		Open  bool
		WideM float64
	}
	ns, done := temporary()
	defer done()
	frame := pantry.Object("cold-frame", Frame{WideM: 1.2}).In(ns)
	now, err := frame.Update(func(f Frame) (Frame, error) { f.Open = true; return f, nil })
	fmt.Println(now, err)
	e, _ := ns.Entry("cold-frame")
	fmt.Println(e.Value)
	// Output:
	// {true 1.2} <nil>
	// {"open":true,"wide-m":1.2}
}

// Settings: each field is an entry, and only what changes is written.
func ExampleFields() {
	type Settings struct {
		ReminderHour int
		Units        Units
		Quiet        bool
	}
	ns, done := temporary()
	defer done()
	settings := pantry.Fields(Settings{ReminderHour: 18, Units: "metric"}).In(ns)
	now, err := settings.Update(func(s Settings) (Settings, error) {
		s.ReminderHour = 7
		return s, nil
	})
	fmt.Println(now, err)
	for e := range ns.Entries("") {
		fmt.Println(e.Name, e.Value)
	}
	// Output:
	// {7 metric false} <nil>
	// reminder-hour 7
}

func ExampleRecordsOf() {
	type Planting struct{ Crop, Bed string }
	ns, done := temporary()
	defer done()
	plantings := pantry.RecordsOf[Planting]("plantings").In(ns)
	for _, p := range []Planting{{"beans", "C4"}, {"marrow", "B2"}, {"peas", "C4"}} {
		if _, err := plantings.Add(p); err != nil {
			fmt.Println(err)
		}
	}
	fmt.Println(plantings.Drop("1"))
	for id, p := range plantings.All() {
		fmt.Println(id, p.Crop, p.Bed)
	}
	// Output:
	// <nil>
	// 2 marrow B2
	// 3 peas C4
}

// A family of keys: one for each bed.
func ExampleKey_At() {
	watered := pantry.Int("watered", 0).Between(0, 50)
	ns, done := temporary()
	defer done()
	for _, bed := range []string{"C4", "B2", "C4"} {
		if _, err := pantry.Add(watered.At(bed).In(ns), 1); err != nil {
			fmt.Println(err)
		}
	}
	for e := range ns.Entries("watered/") {
		fmt.Println(e.Name, e.Value)
	}
	// Output:
	// watered/B2 1
	// watered/C4 2
}

// A secret is encrypted with a key from the platform's keystore.
func ExampleKey_Sealed() {
	fromKeystore := []byte("a key of 32 bytes, made at setup")
	sealer, err := seal.AESGCM(fromKeystore)
	if err != nil {
		fmt.Println(err)
		return
	}
	ns, done := temporary(pantry.Seal(sealer))
	defer done()
	code := pantry.Text("gate/code", "").Sealed().In(ns)
	fmt.Println(code.Set("4711"), code.Get())
	e, _ := ns.Entry("gate/code")
	fmt.Println(e.Value.Kind())
	// Output:
	// <nil> 4711
	// sealed
}

// A misspelt name is found when the app starts.
func ExampleDeclare() {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	for _, name := range []string{"tank/litres", "tank/litre"} {
		ns, err := pantry.Open(dir, "tank", pantry.Declare(pantry.Int(name, 0)),
			pantry.OnProblem(func(p pantry.Problem) { fmt.Println(p.Err) }))
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Println(name, ns.Close())
	}
	// Output:
	// tank/litres <nil>
	// the name "tank/litre" nearly matches "tank/litres", which is declared in this namespace: they differ in one letter
	// tank/litre <nil>
}

// A list and its count, whole or not at all.
func ExampleNamespace_Commit() {
	sown, count := pantry.List[string]("sown"), pantry.Int("sown-count", 0)
	ns, done := temporary()
	defer done()
	err := ns.Commit(func(b *pantry.Batch) error {
		all, err := pantry.Append(sown.In(b), "beans", "peas")
		if err != nil {
			return err
		}
		return count.In(b).Set(len(all))
	})
	fmt.Println(err, sown.In(ns).Get(), count.In(ns).Get(), ns.Version())
	// Output: <nil> [beans peas] 2 1
}

// One body shows the value at first and after each change.
func ExampleVar_Watch() {
	ns, done := temporary()
	defer done()
	litres := pantry.Int("tank/litres", 420).In(ns)
	for x := range litres.Watch(context.Background()) {
		fmt.Println("the tank holds", x)
		if x < 400 {
			break
		}
		if _, err := pantry.Add(litres, -15); err != nil {
			fmt.Println(err)
		}
	}
	// Output:
	// the tank holds 420
	// the tank holds 405
	// the tank holds 390
}

func ExampleNamespace_History() {
	ns, done := temporary()
	defer done()
	plot := pantry.Text("plot", "").In(ns)
	fmt.Println(plot.Set("C4"), plot.Set("B2"), plot.Set("A1"))
	past, err := ns.History(2)
	for _, c := range past {
		fmt.Println(c.Version, c.Changes[0].Name, c.Changes[0].New, "instead of", c.Changes[0].Old)
	}
	fmt.Println(err)
	// Output:
	// <nil> <nil> <nil>
	// 3 plot A1 instead of B2
	// 2 plot B2 instead of C4
	// <nil>
}
