package rules

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/near"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Declaration is keys that an app uses, and what else is to be done with the list
// of them.
type Declaration struct {
	Keys   []entry.Declared
	Change bool  // those that are declared otherwise are to be as they are here
	Closed *bool // the list is to be closed, or opened; nil: as it is
}

// Check says what is wrong with the keys in themselves. The error is a *Refusal whose
// Edit is the key.
func (d Declaration) Check() error {
	seen := map[string]bool{}
	for i, k := range d.Keys {
		err := k.Check()
		if seen[k.Name] {
			err = refuse.As(value.ErrInvalid, "the key %s comes twice; was a line copied?", scan.Quote(k.Name))
		}
		if err != nil {
			return &Refusal{Edit: i, Err: err}
		}
		seen[k.Name] = true
	}
	return nil
}

// Declare takes in the keys that an app uses: one that nobody declared as it comes,
// unless what is stored doesn't meet it; one that is declared otherwise stays, unless
// it is to be changed. What the app should look at comes back as findings. The errors
// are those of Check and of ledger.Commit.
func Declare(l *ledger.Ledger, who entry.Author, d Declaration) (findings []entry.Finding, result ledger.Result, err error) {
	if err := d.Check(); err != nil {
		return nil, ledger.Result{}, err
	}
	return ledger.Do(l, who, func(tx *ledger.Tx) ([]entry.Finding, error) {
		f := declaring{own: map[string]bool{}}
		for _, k := range d.Keys {
			f.own[k.Name] = true
		}
		known := tx.Keys()
		for _, k := range d.Keys {
			k.By = who.By
			f.take(tx, k, known, d.Change)
		}
		if d.Closed != nil {
			tx.Close(*d.Closed)
		}
		return f.findings, nil
	})
}

// Withdraw takes a declaration back. The error wraps value.ErrAbsent where there is
// none.
func Withdraw(l *ledger.Ledger, who entry.Author, name string) (k entry.Declared, result ledger.Result, err error) {
	return ledger.Do(l, who, func(tx *ledger.Tx) (entry.Declared, error) {
		k, declared := tx.Declared(name)
		if !declared {
			return k, refuse.As(value.ErrAbsent, "no key %s is declared", name)
		}
		tx.Withdraw(k)
		return k, nil
	})
}

// A declaring is one run of the judge of a Declare.
type declaring struct {
	own      map[string]bool // what is declared in it
	findings []entry.Finding
}

func (f *declaring) find(code, name, format string, args ...any) {
	f.findings = append(f.findings, entry.Finding{Code: code, Name: name, Sentence: fmt.Sprintf(format, args...)})
}

// take takes in one key.
func (f *declaring) take(tx *ledger.Tx, k entry.Declared, known []entry.Declared, change bool) {
	if entry.SecretKey(k) {
		f.find("secret", k.Name, "the name %s says that it is a secret, and everybody with a link to the board could read it: keep it on the device, sealed", scan.Quote(k.Name))
	}
	before, declared := tx.Declared(k.Name)
	switch {
	case !declared:
		f.compare(tx, k.Name, known)
	case before.SameRules(k):
		return
	case before.Kind != k.Kind || before.Family != k.Family:
		f.find("kind", k.Name, "%s declared it as %s, and here it is %s", by(before), before.Says(), k.Says())
	case !value.Equal(before.Default, k.Default):
		f.find("default", k.Name, "%s declared its default as %s, and here it is %s", by(before), before.Default, k.Default)
	default:
		f.find("rule", k.Name, "%s declared it with other bounds, length or choices (%s) than here (%s)", by(before), said(before), said(k))
	}
	if declared && !change {
		return
	}
	if name, err := stands(tx, k); err != nil {
		f.find("stored", k.Name, "it is not declared, since what is stored does not meet it: %s: %v", name, err)
		return
	}
	tx.Declare(k)
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

// compare finds names that a new one nearly matches.
func (f *declaring) compare(tx *ledger.Tx, name string, known []entry.Declared) {
	tell := func(other, is string) {
		if f.own[other] {
			return
		}
		if how := near.Match(name, other); how != "" {
			f.find("near", name, "the name %s nearly matches %s, which %s: %s", scan.Quote(name), scan.Quote(other), is, how)
		}
	}
	declared := map[string]bool{}
	for _, k := range known {
		declared[k.Name] = true
		tell(k.Name, by(k)+" declared")
	}
	for _, other := range tx.Names() {
		if !declared[other] {
			tell(other, "is stored on this board")
		}
	}
}

// stands says which entry does not meet a declaration, and why.
func stands(tx *ledger.Tx, k entry.Declared) (string, error) {
	if !k.Family {
		return k.Name, k.JudgeWhole(tx.Value(k.Name))
	}
	for _, name := range tx.Names() {
		if strings.HasPrefix(name, k.Name+"/") {
			if err := k.JudgeWhole(tx.Value(name)); err != nil {
				return name, err
			}
		}
	}
	return "", nil
}
