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
}

// Check checks the keys themselves. The error is a *Refusal whose Edit is the index of the key.
func (d Declaration) Check() error {
	seen := map[string]bool{}
	for i, k := range d.Keys {
		err := k.Check()
		if seen[k.Name] {
			err = refuse.As(value.ErrInvalid, "the key %s occurs twice; was a line copied?", scan.Quote(k.Name))
		}
		if err != nil {
			return &Refusal{Edit: i, Err: err}
		}
		seen[k.Name] = true
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
	alike := lookAlikes(l, d) // this can take a while, and blocks nobody here
	return ledger.Do(l, who, func(tx *ledger.Tx) ([]entry.Finding, error) {
		f := declaring{tx: tx, alike: alike}
		for _, k := range d.Keys {
			k.By = who.By
			f.take(k, d.Change)
		}
		if d.Closed != nil {
			tx.CloseKeys(*d.Closed)
		}
		return f.findings, nil
	})
}

// Withdraw withdraws a declaration. The error wraps value.ErrAbsent if there is none.
func Withdraw(l *ledger.Ledger, who entry.Author, name string) (k entry.Declared, result ledger.Result, err error) {
	return ledger.Do(l, who, func(tx *ledger.Tx) (entry.Declared, error) {
		k, declared := tx.Declared(name)
		if !declared {
			return k, refuse.As(value.ErrAbsent, "key %s is not declared", name)
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
	before, declared := f.tx.Declared(k.Name)
	switch {
	case !declared:
		f.findings = append(f.findings, f.alike[k.Name]...)
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
	if name, err := f.stands(k); err != nil {
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
	var fresh []string
	for _, k := range d.Keys {
		delete(is, k.Name) // a name without an own key can't be near another
		if !declared[k.Name] {
			fresh = append(fresh, k.Name)
		}
	}
	others := near.Index(slices.Collect(maps.Keys(is)))
	found := map[string][]entry.Finding{}
	for _, name := range fresh {
		for _, m := range others.Near(name) {
			found[name] = append(found[name], entry.Finding{Code: "near", Name: name, Sentence: fmt.Sprintf(
				"the name %s nearly matches %s, which %s: %s", scan.Quote(name), scan.Quote(m.Name), is[m.Name], m.How)})
		}
	}
	return found
}

// stands returns an entry that does not meet a declaration, and the reason.
func (f *declaring) stands(k entry.Declared) (string, error) {
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
