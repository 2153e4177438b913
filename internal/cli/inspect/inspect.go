// Package inspect finds what is wrong in a namespace or a board, or will be, for the command check.
package inspect

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Finding is one thing to look at.
type Finding = entry.Finding

// A Place is what to inspect.
type Place struct {
	Entries  []entry.Entry
	Declared []entry.Declared
	Past     []entry.Commit // the kept history, newest first
	Unread   map[string]int // for keys that no run has read: how many runs recorded their use
	Bytes    int64          // of the file; 0 means unknown
	Load     time.Duration  // how long loading took
}

// From these sizes on, something is reported as large.
const (
	LargeValue = 64 << 10
	LargeFile  = 4 << 20
)

// Findings returns the findings, those about the whole place first and the others by name. Notes
// are not necessarily wrong.
func (p Place) Findings() (findings, notes []Finding) {
	var f finder
	if p.Bytes > LargeFile {
		f.add("large-file", "", "the file has %.1f MiB and took %d ms to load, at every launch; keep large data in files of its own", float64(p.Bytes)/(1<<20), p.Load.Milliseconds())
	}
	declared := entry.Among(p.Declared)
	for _, e := range p.Entries {
		if size := len(e.Value.AppendJSON(nil)); size > LargeValue {
			f.add("large-value", e.Name, "it takes %d KiB, which each launch and each change has to carry", size>>10)
		}
		if why := secret(e.Name, e.Value); why != "" {
			f.add("secret", e.Name, "%s, and the file has it in the clear: declare its key Sealed", why)
		}
		if numberAsText(e.Value) {
			f.add("number-as-text", e.Name, "the text %s is a number; an app that adds to it or compares it wants it as one", entry.Quoted(e.Value))
		}
		if len(p.Declared) > 0 {
			f.against(e, declared)
		}
	}
	f.inThePast(p)
	for _, k := range p.Declared {
		written := slices.ContainsFunc(p.Entries, func(e entry.Entry) bool {
			return e.Name == k.Name || strings.HasPrefix(e.Name, k.Name+"/")
		})
		if !written {
			f.note("never-written", k.Name, "it is declared, and was never written or is removed")
		}
		switch runs := p.Unread[k.Name]; {
		case runs == 1:
			f.note("never-read", k.Name, "it is declared, and the one run that noted its use did not read it: what is stored is never shown")
		case runs > 1:
			f.note("never-read", k.Name, "it is declared, and none of the %d runs that noted their use read it: what is stored is never shown", runs)
		}
	}
	f.nearMisses(p)
	for _, list := range [][]Finding{f.findings, f.notes} {
		slices.SortStableFunc(list, func(a, b Finding) int { return cmp.Compare(a.Name, b.Name) })
	}
	return f.findings, f.notes
}

type finder struct{ findings, notes []Finding }

func (f *finder) add(code, name, format string, args ...any) {
	f.findings = append(f.findings, Finding{Code: code, Name: name, Sentence: fmt.Sprintf(format, args...)})
}

func (f *finder) note(code, name, format string, args ...any) {
	f.notes = append(f.notes, Finding{Code: code, Name: name, Sentence: fmt.Sprintf(format, args...)})
}

// inThePast finds secrets in old values that the file still holds.
func (f *finder) inThePast(p Place) {
	reported := map[string]bool{}
	for _, e := range p.Entries {
		reported[e.Name] = secret(e.Name, e.Value) != ""
	}
	for _, c := range p.Past {
		for _, ch := range c.Changes {
			if why := secret(ch.Name, ch.Old); why != "" && !reported[ch.Name] {
				reported[ch.Name] = true
				f.add("secret", ch.Name, "%s, and the history still has it from before version %d: drop it with --forget", why, c.Version)
			}
		}
	}
}

// against compares an entry with its declaration.
func (f *finder) against(e entry.Entry, declared func(name string) (entry.Declared, bool)) {
	k := entry.DeclaredFor(e.Name, declared)
	if k.Kind == value.KindNone {
		f.note("undeclared", e.Name, "no app has declared it: it may be misspelt, or left by an earlier version")
		return
	}
	err := k.Judge(e.Value)
	code := ""
	switch {
	case err == nil || k.Kind == value.KindSealed: // a secret in the clear is reported separately
		return
	case errors.Is(err, value.ErrWrongKind):
		code = "wrong-kind"
	case errors.Is(err, value.ErrOutOfRange):
		code = "out-of-range"
	default:
		code = "refused"
	}
	f.add(code, e.Name, "%v; its app shows the default", err)
}

// nearMisses compares all stored and declared names, except the names of records, which their apps
// choose.
func (f *finder) nearMisses(p Place) {
	seen := map[string]bool{}
	var names []string
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	for _, k := range p.Declared {
		add(k.Name)
	}
	for _, e := range p.Entries {
		inRecords := slices.ContainsFunc(p.Declared, func(k entry.Declared) bool { return k.Family && strings.HasPrefix(e.Name, k.Name+"/") })
		if !inRecords {
			add(e.Name)
		}
	}
	slices.Sort(names)
	const most = 2000 // comparing more pairs takes too long
	if len(names) > most {
		names = names[:most]
	}
	for i, a := range names {
		for _, b := range names[i+1:] {
			if how := nearly(a, b); how != "" {
				f.add("near-miss", a, "it nearly matches %s: %s", scan.Quote(b), how)
			}
		}
	}
}

// nearly is near.Match for names as they are displayed: a letter can have several encodings.
func nearly(a, b string) string {
	na, nb := norm.NFC.String(a), norm.NFC.String(b)
	if na == nb {
		return "they look the same and differ in how their letters are encoded (Unicode normalisation)"
	}
	return near.Match(na, nb)
}

func numberAsText(v value.Value) bool {
	s, ok := v.AsText()
	if !ok || s == "" {
		return false
	}
	guess, err := value.Infer(s)
	return err == nil && guess.Kind().Number()
}
