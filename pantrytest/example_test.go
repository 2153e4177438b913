package pantrytest_test

import (
	"testing"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/pantrytest"
)

var reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23)

// In a test, t is its own.
var t *testing.T

// The app is closed and opened after each action, and must show the same.
func ExampleReopen() {
	pantrytest.Reopen(t, pantrytest.App[*pantry.Namespace]{
		Launch: func(dir string) (*pantry.Namespace, error) {
			return pantry.Open(dir, "plotbook", pantry.Declare(reminderHour))
		},
		Close: (*pantry.Namespace).Close,
		Shows: func(ns *pantry.Namespace) any { return reminderHour.In(ns).Get() },
		Actions: []pantrytest.Action[*pantry.Namespace]{
			{Name: "remind at 7", Do: func(ns *pantry.Namespace) error { return reminderHour.In(ns).Set(7) }},
			{Name: "reset", Do: (*pantry.Namespace).Reset},
		},
		Reset: "reset",
	})
}

// A new version of the app opens a file that an older version wrote. No entry, field or member is left behind.
func ExampleMigrate() {
	for _, m := range pantrytest.Migrate(t, "testdata/plotbook.jsonl", pantry.Schema(pantry.RenameKey("hour", "reminder-hour")), pantry.Declare(reminderHour)) {
		t.Log(m)
	}
}

// Power is cut after a write: what was acknowledged is there.
func ExampleDevice() {
	device := pantrytest.NewDevice(t)
	ns, err := pantry.Open(device.Dir(), "plotbook", pantry.Declare(reminderHour))
	if err != nil {
		t.Fatal(err)
	}
	if err := reminderHour.In(ns).Set(7); err != nil {
		t.Fatal(err)
	}
	device.Kill()
}
