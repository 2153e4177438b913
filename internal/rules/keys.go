package rules

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// ErrUndeclared is returned for a write to an undeclared name while the list of declared keys is
// closed.
var ErrUndeclared = errors.New("undeclared")

// undeclared returns ErrUndeclared if the list of keys is closed and name is not in it. The error
// suggests a similar key only if that key begins with prefix.
func undeclared(tx *ledger.Tx, name string, declared entry.Declared, prefix string) error {
	if declared.Kind != value.KindNone || !tx.KeysClosed() {
		return nil
	}
	mean := ""
	for _, k := range tx.Keys() {
		if strings.HasPrefix(k.Name, prefix) && near.Match(name, k.Name) != "" {
			mean = "; did you mean " + k.Name + "?"
			break
		}
	}
	return refuse.As(ErrUndeclared, "%s is not declared, and only declared names can be written here%s", name, mean)
}

// A Declaration declares keys, and can open or close the list of keys.
type Declaration struct {
	Keys   []entry.Declared
	Change bool   // replace existing declarations that differ
	Closed *bool  // close or open the list; nil leaves it unchanged
	Prefix string // findings mention only names with this prefix
	// Allowed returns an error if the caller may no longer declare, at the moment of the commit. nil
	// allows it.
	Allowed func() error
}

// Check checks the keys themselves. The error is a *Refusal whose Edit is the index of the key.
func (d Declaration) Check() error {
	seen := map[string]bool{}
	for i, k := range d.Keys {
		err := k.Check()
		if seen[k.ID()] {
			err = refuse.As(value.ErrInvalid, "the key %s occurs twice; was a line copied?", scan.Quote(k.Name))
		}
		if err != nil {
			return &Refusal{Edit: i, Err: err}
		}
		seen[k.ID()] = true
	}
	return nil
}

// Declare declares the keys of an app. An undeclared key is declared as given, unless the stored
// value does not meet it. An existing declaration that differs wins, unless Change is set. Findings
// for the app are returned. The errors are those of Check and of ledger.Commit.
func Declare(l *ledger.Ledger, who entry.Author, d Declaration) (findings []entry.Finding, result ledger.Result, err error) {
	if err := d.Check(); err != nil {
		return nil, ledger.Result{}, err
	}
	alike := lookAlikes(l, d) // this can take a while, and blocks no writer here
	return ledger.Do(l, who, func(tx *ledger.Tx) ([]entry.Finding, error) {
		if d.Allowed != nil {
			if err := d.Allowed(); err != nil {
				return nil, err
			}
		}
		if err := tooMany(tx, d); err != nil {
			return nil, err
		}
		f := declaring{tx: tx, alike: alike}
		for _, k := range d.Keys {
			k.By = who.By
			f.take(k, d.Change)
		}
		if d.Closed != nil {
			tx.CloseKeys(*d.Closed)
		}
		return f.findings[:min(len(f.findings), maxFindings)], nil
	})
}

// Withdraw withdraws the declaration with an ID: a name, or a name and a slash for a family. check can
// refuse it; nil allows it. The error wraps value.ErrAbsent if there is no such declaration.
func Withdraw(l *ledger.Ledger, who entry.Author, id string, check func() error) (k entry.Declared, result ledger.Result, err error) {
	return ledger.Do(l, who, func(tx *ledger.Tx) (entry.Declared, error) {
		if check != nil {
			if err := check(); err != nil {
				return entry.Declared{}, err
			}
		}
		k, declared := tx.Declared(id)
		if !declared {
			if family, is := tx.Declared(id + "/"); is {
				return family, refuse.As(value.ErrAbsent, "key %s is not declared; the family %s/ is, and is withdrawn as %[1]s/", id, id)
			}
			return k, refuse.As(value.ErrAbsent, "key %s is not declared", id)
		}
		tx.Withdraw(k)
		return k, nil
	})
}

// A declaring is one run of the function that evaluates a Declare.
type declaring struct {
	tx       *ledger.Tx
	alike    map[string][]entry.Finding // of undeclared keys
	names    []string                   // what is stored; nil until it is needed
	findings []entry.Finding
}

func (f *declaring) find(code, name, format string, args ...any) {
	f.findings = append(f.findings, entry.Finding{Code: code, Name: name, Sentence: fmt.Sprintf(format, args...)})
}

// take handles one key.
func (f *declaring) take(k entry.Declared, change bool) {
	if entry.SecretKey(k) {
		f.find("secret", k.Name, "the name %s says that it is a secret, and everybody with a link to the board could read it: keep it on the device, sealed", scan.Quote(k.Name))
	}
	before, declared := f.tx.Declared(k.ID())
	switch {
	case !declared:
		f.findings = append(f.findings, f.alike[k.ID()]...)
	case before.SameRules(k):
		return
	case before.Kind != k.Kind:
		f.find("kind", k.Name, "%s declared it as %s, and here it is %s", by(before), before.Says(), k.Says())
	case !value.Equal(before.Default, k.Default):
		f.find("default", k.Name, "%s declared its default as %s, and here it is %s", by(before), before.Default, k.Default)
	default:
		f.find("rule", k.Name, "%s declared it with other bounds, length or choices (%s) than here (%s)", by(before), said(before), said(k))
	}
	if declared && !change {
		return
	}
	if name, err := f.violates(k); err != nil {
		f.find("stored", k.Name, "it is not declared, since what is stored does not meet it: %s: %v", name, err)
		return
	}
	f.tx.Declare(k)
}

func by(k entry.Declared) string {
	if k.By == "" {
		return "another app"
	}
	return k.By
}

func said(k entry.Declared) string {
	if s := k.Allowed(); s != "" {
		return s
	}
	return "none"
}

// The bounds of the findings of one declaration, and of the work to find them.
const (
	maxFindings = 20
	maxNearWork = 1 << 20
)

// The maximum number of declared keys of a board, and of their bytes as JSON.
const (
	MaxKeys     = 2000
	MaxKeyBytes = 1 << 20
)

// tooMany returns an ErrQuota if a board would have too many declared keys.
func tooMany(tx *ledger.Tx, d Declaration) error {
	keys := slices.Concat(tx.Keys(), d.Keys) // of two with one ID, the first stays
	if d.Change {
		keys = slices.Concat(d.Keys, tx.Keys())
	}
	size, all := 0, map[string]bool{}
	for _, k := range keys {
		if !all[k.ID()] {
			all[k.ID()] = true
			size += len(k.AppendJSON(nil))
		}
	}
	switch {
	case len(all) > MaxKeys:
		return refuse.As(ErrQuota, "the board would have %d declared keys, and the limit is %d: withdraw keys that no app has, or declare a family", len(all), MaxKeys)
	case size > MaxKeyBytes:
		return refuse.As(ErrQuota, "the declared keys of the board would have %d bytes, and the limit is %d: shorten their descriptions and choices", size, MaxKeyBytes)
	}
	return nil
}

// lookAlikes finds, for each undeclared key, the names that it nearly matches: declared keys, and
// stored names without a key.
func lookAlikes(l *ledger.Ledger, d Declaration) map[string][]entry.Finding {
	is, declared := map[string]string{}, map[string]bool{} // a finding's text about a name
	for _, k := range l.Keys() {
		if !strings.HasPrefix(k.Name, d.Prefix) {
			continue
		}
		is[k.Name], declared[k.Name] = by(k)+" declared", true
	}
	snap := l.Snapshot()
	defer snap.Release()
	for e := range snap.Entries(d.Prefix, "") {
		if is[e.Name] == "" {
			is[e.Name] = "is stored on this board"
		}
	}
	var fresh []entry.Declared
	for _, k := range d.Keys {
		delete(is, k.Name) // a name without an own key can't be near another
		if !declared[k.Name] {
			fresh = append(fresh, k)
		}
	}
	others := near.Index(slices.Collect(maps.Keys(is)))
	found := map[string][]entry.Finding{}
	total, work := 0, 0
	for _, k := range fresh {
		name, id := k.Name, k.ID()
		if work += len(name) * len(name); work > maxNearWork { // long names cost the square of their length
			return found
		}
		for _, m := range others.Near(name) {
			if total++; total > maxFindings {
				return found
			}
			found[id] = append(found[id], entry.Finding{Code: "near", Name: name, Sentence: fmt.Sprintf(
				"the name %s nearly matches %s, which %s: %s", scan.Quote(name), scan.Quote(m.Name), is[m.Name], m.How)})
		}
	}
	return found
}

// violates returns an entry that does not meet a declaration, and the reason.
func (f *declaring) violates(k entry.Declared) (string, error) {
	if !k.Family {
		return k.Name, k.JudgeWhole(f.tx.Value(k.Name))
	}
	if f.names == nil {
		f.names = f.tx.Names()
	}
	i, _ := slices.BinarySearch(f.names, k.Name+"/")
	for ; i < len(f.names) && strings.HasPrefix(f.names[i], k.Name+"/"); i++ {
		if err := k.JudgeWhole(f.tx.Value(f.names[i])); err != nil {
			return f.names[i], err
		}
	}
	return "", nil
}
