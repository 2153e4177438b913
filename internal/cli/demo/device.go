package demo

import (
	"bytes"
	"errors"
	"os"

	"github.com/small-pantry/pantry"
)

// The keys of plotbook on a phone.
var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind of watering")
	plot         = pantry.Text("plot", "").About("the gardener's bed")
	units        = pantry.OneOf("units", "metric", "imperial").About("how spacings are shown")
	plantings    = pantry.RecordsOf[planting]("plantings").About("what grows where")
)

type planting struct {
	Crop, Bed string
	SpacingCm int
}

// plotbook opens the app on a phone, calls use, and closes it.
func (s *story) plotbook(phone int, do func(ns *pantry.Namespace) error) error {
	ns, err := pantry.Open(s.dir, s.Phones[phone], pantry.Declare(reminderHour, plot, units, plantings))
	if err != nil {
		return err
	}
	return errors.Join(do(ns), ns.Close())
}

func (s *story) firstLaunch() error {
	s.scene("plotbook is opened on a phone for the first time")
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		hour, found, err := reminderHour.In(ns).Lookup()
		if err != nil {
			return err
		}
		s.say("reminder-hour shows %d, its default: nothing is stored yet", hour)
		expect(s.teller, "the default", hour, 18)
		expect(s.teller, "stored", found, false)
		_, err = reminderHour.Parse("25")
		s.say(`"25" is entered: %s`, sentence(err))
		expect(s.teller, "refused", errors.Is(err, pantry.ErrInvalid), true)
		return nil
	})
}

// closeAndOpen stores two different values in turn, so that the value read back can't be the
// default by chance.
func (s *story) closeAndOpen() error {
	s.scene("A setting survives: it is changed, and the app is closed and opened, twice")
	s.say("%-16s %-16s", "left", "came back")
	for _, left := range s.Hours {
		if err := s.plotbook(0, func(ns *pantry.Namespace) error {
			return ns.Commit(func(b *pantry.Batch) error {
				return errors.Join(reminderHour.In(b).Set(left), plot.In(b).Set(s.Plot))
			})
		}); err != nil {
			return err
		}
		if err := s.plotbook(0, func(ns *pantry.Namespace) error {
			hour, bed := reminderHour.In(ns).Get(), plot.In(ns).Get()
			s.say("%-16s %-16s", at(left, s.Plot), at(hour, bed))
			expect(s.teller, "reminder-hour", hour, left)
			expect(s.teller, "plot", bed, s.Plot)
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

func (s *story) lookInTheFile() error {
	s.scene("The phone's file: a header, the declared keys, and a line a commit")
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		file, err := os.ReadFile(ns.Path())
		if err != nil {
			return err
		}
		lines := bytes.Split(bytes.TrimSpace(file), []byte("\n"))
		s.say("%d lines; the newest is:", len(lines))
		s.quote(string(lines[len(lines)-1]))
		expect(s.teller, "the number of lines", len(lines), 2+len(s.Hours))
		return nil
	})
}

func (s *story) keepRecords() error {
	s.scene("Plantings: records, each an entry of its own")
	err := s.plotbook(0, func(ns *pantry.Namespace) error {
		in := plantings.In(ns)
		for _, p := range s.Plantings {
			if _, err := in.Add(planting(p)); err != nil {
				return err
			}
		}
		if _, err := in.Update("2", func(p planting) (planting, error) { p.Bed = "A1"; return p, nil }); err != nil {
			return err
		}
		return in.Drop("1")
	})
	if err != nil {
		return err
	}
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		in := plantings.In(ns)
		s.say("three were added, the second was moved, the first removed; after opening again:")
		for id, p := range in.All() {
			s.say("%s  %-14s bed %s, every %d cm", id, p.Crop, p.Bed, p.SpacingCm)
		}
		id, err := in.Add(planting{"garlic", "A1", 15})
		s.say("the next one gets number %s: numbers are not reused", id)
		marrow, _, err2 := in.Lookup("2")
		expect(s.teller, "the number of plantings", in.Len(), len(s.Plantings))
		expect(s.teller, "the marrow's bed", marrow.Bed, "A1")
		expect(s.teller, "the next number", id, "4")
		return errors.Join(err, err2)
	})
}

func (s *story) chooseFromASet() error {
	s.scene("A choice from a fixed set")
	err := s.plotbook(0, func(ns *pantry.Namespace) error {
		err := units.In(ns).Set("cubits")
		s.say(`"cubits" is entered: %s`, sentence(err))
		expect(s.teller, "refused", errors.Is(err, pantry.ErrInvalid), true)
		return units.In(ns).Set("imperial")
	})
	if err != nil {
		return err
	}
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		s.say("imperial was stored, and units is %s after opening again", units.In(ns).Get())
		expect(s.teller, "units", units.In(ns).Get(), "imperial")
		return nil
	})
}

// resetAndOpen closes right after the reset, so that a reset only in memory would show.
func (s *story) resetAndOpen() error {
	s.scene("Everything is reset, the app closed at once, and opened")
	if err := s.plotbook(0, func(ns *pantry.Namespace) error { return ns.Reset() }); err != nil {
		return err
	}
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		hour, bed, unit, n := reminderHour.In(ns).Get(), plot.In(ns).Get(), units.In(ns).Get(), plantings.In(ns).Len()
		s.say("reminder-hour %d, plot %q, units %s, plantings %d: all at their defaults", hour, bed, unit, n)
		expect(s.teller, "what is back", [4]any{hour, bed, unit, n}, [4]any{18, "", "metric", 0})
		file, err := os.ReadFile(ns.Path())
		s.say("the file holds %d bytes, and no old value is in it", len(file))
		expect(s.teller, "whether an old value is in the file", bytes.Contains(file, []byte("marrow")), false)
		return err
	})
}

func (s *story) misspelt() error {
	s.scene("A slip is named: a second app on the phone spells a name in another way")
	var found []pantry.Problem
	ns, err := pantry.Open(s.dir, s.Phones[0],
		pantry.Declare(pantry.Int("reminder_hour", 18)), //pantry:meant check finds it
		pantry.OnProblem(func(p pantry.Problem) { found = append(found, p) }))
	if err != nil {
		return err
	}
	for _, p := range found {
		s.say("when it opens: %v", p.Err)
	}
	expect(s.teller, "the number of findings", len(found), 1)
	return ns.Close()
}
