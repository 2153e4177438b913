package demo

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/cli/inspect"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

var gateOpen = pantry.Bool("gate/open", false).About("the garden's gate")

// lookBack shows the board's newest commits, and the difference between two versions.
func (s *story) lookBack() error {
	s.scene("What happened on the board: its newest commits, and two moments compared")
	b, err := s.join("gatehouse")
	if err != nil {
		return err
	}
	defer b.Close()
	_, before, err := b.All(s.ctx, "")
	if err != nil {
		return err
	}
	if err := board.On(b, gateOpen).Set(s.ctx, true); err != nil {
		return err
	}
	commits, err := b.History(s.ctx, 3)
	if err != nil {
		return err
	}
	for _, c := range commits {
		ch := c.Changes[0]
		s.say("version %d  %-12s %s → %s, by %s", c.Version, ch.Name, orNothing(ch.Old), orNothing(ch.New), c.By)
	}
	expect(s.teller, "the newest commit", commits[0].Changes[0].Name, "gate/open")
	then, err := b.EntriesAt(s.ctx, before)
	if err != nil {
		return err
	}
	now, version, err := b.All(s.ctx, "")
	if err != nil {
		return err
	}
	var fresh []string
	for _, e := range now {
		if !slices.ContainsFunc(then, func(old pantry.Entry) bool { return old.Name == e.Name }) {
			fresh = append(fresh, e.Name)
		}
	}
	s.say("between version %d and version %d: %s", before, version, strings.Join(fresh, ", "))
	expect(s.teller, "what is new", strings.Join(fresh, ", "), "gate/open")
	return nil
}

func orNothing(v value.Value) string {
	if v.IsZero() {
		return "nothing"
	}
	return v.String()
}

// undoReset restores everything after somebody has reset the board.
func (s *story) undoReset() error {
	s.scene("An accident is undone: somebody resets the board by mistake")
	b, err := s.join("gatehouse")
	if err != nil {
		return err
	}
	defer b.Close()
	before, version, err := b.All(s.ctx, "")
	if err != nil {
		return err
	}
	if _, err := b.Commit(s.ctx, board.Op{Reset: true}); err != nil {
		return err
	}
	tank := board.On(b, tankLitres)
	_, found, err := tank.Lookup(s.ctx)
	if err != nil {
		return err
	}
	s.say("after the reset nothing is stored under tank/litres")
	expect(s.teller, "stored after the reset", found, false)
	then, err := b.EntriesAt(s.ctx, version)
	if err != nil {
		return err
	}
	var ops []board.Op
	for _, e := range then {
		put := value.Op{Verb: value.Put, Operand: e.Value, Kind: e.Value.Kind()}
		ops = append(ops, board.Op{Name: e.Name, Op: put}.If(0, time.Time{}))
	}
	if _, err := b.Commit(s.ctx, ops...); err != nil {
		return err
	}
	litres, _, err := tank.Lookup(s.ctx)
	s.say("it is put back as it was before, all in one commit: tank/litres is %d", litres)
	expect(s.teller, "the entries put back", len(ops), len(before))
	expect(s.teller, "tank/litres", litres, s.afterRain())
	return err
}

// check looks for mistakes on the phone, some made just before.
func (s *story) check() error {
	s.scene("What an app forgot is found: a phone's file is checked")
	return s.plotbook(1, func(ns *pantry.Namespace) error {
		for name, v := range map[string]value.Value{
			"plot": value.Text(s.Plot), "reminder_hour": value.Int(7), "spacing": value.Text("30"), "cloud/password": value.Text("sunflower"),
		} {
			if err := ns.Put(name, v); err != nil {
				return err
			}
		}
		var p inspect.Place
		for _, k := range ns.Declared() {
			p.Declared = append(p.Declared, entry.Declared{Key: entry.Key(k)})
		}
		for e := range ns.Entries("") {
			p.Entries = append(p.Entries, entry.Entry(e))
		}
		codes := map[string]int{}
		findings, notes := p.Findings()
		for _, f := range findings {
			codes[f.Code]++
			if s.all {
				s.say("%-15s %s: %s", f.Code, f.Name, f.Sentence)
			} else {
				s.say("%-15s %s", f.Code, f.Name)
			}
		}
		for _, f := range notes {
			codes[f.Code]++
		}
		s.say("and %d names without a declaration, and %d keys that were never written", codes["undeclared"], codes["never-written"])
		got := fmt.Sprint(codes["secret"], codes["near-miss"], codes["number-as-text"], codes["undeclared"], codes["never-written"])
		expect(s.teller, "the numbers of findings", got, "1 1 1 3 3")
		if err := ns.Forget("cloud/password"); err != nil {
			return err
		}
		file, err := os.ReadFile(ns.Path())
		s.say("cloud/password is forgotten: the file has no trace of it")
		expect(s.teller, "what the file holds of the secret", bytes.Contains(file, []byte("password")) || bytes.Contains(file, []byte("sunflower")), false)
		return err
	})
}
