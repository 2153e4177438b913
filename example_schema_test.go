package pantry_test

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry"
)

// versions runs versions of an app on one file, one after the other.
func versions(all ...func(dir string) (*pantry.Namespace, error)) {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	for _, version := range all {
		ns, err := version(dir)
		if err != nil {
			fmt.Println("can't open:", errors.Is(err, pantry.ErrNewer))
			continue
		}
		if err := ns.Close(); err != nil {
			fmt.Println(err)
		}
	}
}

// A new key needs no step: a file without it shows its default.
func ExampleSchema_newKey() {
	hour, units := pantry.Int("reminder-hour", 18), pantry.OneOf("units", "metric", "imperial")
	versions(
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(hour))
			if err == nil {
				err = hour.In(ns).Set(7)
			}
			return ns, err
		},
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(hour, units))
			if err == nil {
				fmt.Println(hour.In(ns).Get(), units.In(ns).Get())
			}
			return ns, err
		},
	)
	// Output: 7 metric
}

// Version 2 calls the hour by another name.
func ExampleRenameKey() {
	hour, renamed := pantry.Int("hour", 18), pantry.Int("reminder-hour", 18)
	versions(
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(hour))
			if err == nil {
				err = hour.In(ns).Set(7)
			}
			return ns, err
		},
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(renamed),
				pantry.Schema(pantry.RenameKey("hour", "reminder-hour")))
			if err == nil {
				fmt.Println(renamed.In(ns).Get())
			}
			return ns, err
		},
	)
	// Output: 7
}

// Version 2 stores a number of centimetres instead of a text.
func ExampleConvertKey() {
	spacing, inCm := pantry.Text("spacing", "30 cm"), pantry.Int("spacing", 30)
	versions(
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(spacing))
			if err == nil {
				err = spacing.In(ns).Set("45 cm")
			}
			return ns, err
		},
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(inCm),
				pantry.Schema(pantry.ConvertKey("spacing", func(old string) (int, error) {
					return strconv.Atoi(strings.TrimSuffix(old, " cm"))
				})))
			if err == nil {
				fmt.Println(inCm.In(ns).Get())
			}
			return ns, err
		},
	)
	// Output: 45
}

// Version 2 calls a field of its records by another name.
func ExampleRenameMember() {
	type before struct{ Title string }
	type now struct{ Heading string }
	was, is := pantry.RecordsOf[before]("plantings"), pantry.RecordsOf[now]("plantings")
	versions(
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(was))
			if err == nil {
				_, err = was.In(ns).Add(before{"beans"})
			}
			return ns, err
		},
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(is),
				pantry.Schema(pantry.RenameMember("plantings", "title", "heading")))
			if err == nil {
				for id, p := range is.In(ns).All() {
					fmt.Println(id, p.Heading)
				}
			}
			return ns, err
		},
	)
	// Output: 1 beans
}

// Version 2 has another struct for its records.
func ExampleConvertRecords() {
	type before struct{ Bed, Crop string }
	type now struct{ Crops []string }
	was, is := pantry.RecordsOf[before]("plantings"), pantry.RecordsOf[now]("plantings")
	versions(
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(was))
			if err == nil {
				_, err = was.In(ns).Add(before{"C4", "beans"})
			}
			return ns, err
		},
		func(dir string) (*pantry.Namespace, error) {
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(is),
				pantry.Schema(pantry.ConvertRecords("plantings", func(old before) (now, error) {
					return now{[]string{old.Crop}}, nil
				})))
			if err == nil {
				for id, p := range is.In(ns).All() {
					fmt.Println(id, p.Crops)
				}
			}
			return ns, err
		},
	)
	// Output: 1 [beans]
}

// Version 2 shows its tip always, so the key is gone. Version 1 can't open the file any more. Version 3 is
// the code of version 1 again, with a step that undoes the change.
func ExampleDropKey() {
	tip, hour := pantry.Bool("tip-seen", false), pantry.Int("reminder-hour", 18)
	one := func(dir string) (*pantry.Namespace, error) {
		ns, err := pantry.Open(dir, "plotbook", pantry.Declare(tip, hour))
		if err == nil {
			err = errors.Join(tip.In(ns).Set(true), hour.In(ns).Set(7))
		}
		return ns, err
	}
	gone := pantry.DropKey("tip-seen")
	versions(one,
		func(dir string) (*pantry.Namespace, error) {
			return pantry.Open(dir, "plotbook", pantry.Declare(hour), pantry.Schema(gone))
		},
		one,
		func(dir string) (*pantry.Namespace, error) {
			back := func(b *pantry.Batch) error { return tip.In(b).Set(true) } // everybody has seen it by now
			ns, err := pantry.Open(dir, "plotbook", pantry.Declare(tip, hour), pantry.Schema(gone, back))
			if err == nil {
				fmt.Println(tip.In(ns).Get(), hour.In(ns).Get())
			}
			return ns, err
		},
	)
	// Output:
	// can't open: true
	// true 7
}
