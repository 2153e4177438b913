package demo

import (
	"bytes"
	"errors"
	"os"

	"github.com/small-pantry/pantry"
)

// What plotbook keeps on a phone.
var (
	reminderHour = pantry.Int("reminder-hour", 18).Between(0, 23).About("when to remind of watering")
	plot         = pantry.Text("plot", "").About("the gardener's bed")
)

// plotbook opens the app on a phone, lets it do something, and closes it.
func (s *story) plotbook(phone int, do func(ns *pantry.Namespace) error) error {
	ns, err := pantry.Open(s.dir, s.Phones[phone])
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
		s.say("reminder-hour shows %d, its default; stored: %v", hour, found)
		expect(s.teller, "the default", hour, 18)
		expect(s.teller, "stored", found, false)
		_, err = reminderHour.Parse("25")
		s.say(`"25" is entered: %v`, err)
		expect(s.teller, "refused", errors.Is(err, pantry.ErrInvalid), true)
		return nil
	})
}

// closeAndOpen leaves two different values in turn, so that what comes back
// can't be the default by chance.
func (s *story) closeAndOpen() error {
	s.scene("A setting is changed, the app closed and opened; and once more")
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
	s.scene("The phone's file, as it is: a header, and a line for each commit")
	return s.plotbook(0, func(ns *pantry.Namespace) error {
		file, err := os.ReadFile(ns.Path())
		if err != nil {
			return err
		}
		lines := bytes.Split(bytes.TrimSpace(file), []byte("\n"))
		for _, line := range lines {
			s.say("%s", line)
		}
		expect(s.teller, "the number of lines", len(lines), 1+len(s.Hours))
		return nil
	})
}
