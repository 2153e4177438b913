package board

import (
	"fmt"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// A FindingError is a finding about a declared key, as a problem.
type FindingError struct{ Finding Finding }

// Error returns its sentence.
func (e *FindingError) Error() string { return e.Finding.Sentence }

// A NearError is the problem that this app asks for an absent name, or has created a name, that nearly
// matches another one on the board. It is reported once for each pair of names.
type NearError struct {
	Name string // the name of this app
	Near string // the name on the board
	By   string // who stored or declared that one; "" if that is unknown
}

// Error returns what to check.
func (e *NearError) Error() string {
	by := ""
	if e.By != "" {
		by = ", by " + e.By
	}
	return fmt.Sprintf("the name %s nearly matches %s%s, which is on the board: is one of them misspelt?", e.Name, e.Near, by)
}

// A ReplacedError is the problem that a plain Set or Put replaced a value that this app had not seen,
// which another client had stored.
type ReplacedError struct {
	Name string
	Lost pantry.Entry // what was replaced: Value, Version, Updated, By; without a Value if the history no longer has it
	Now  value.Value  // what is stored now
}

// Error returns what was lost, and the operation that would have lost nothing.
func (e *ReplacedError) Error() string {
	lost := "a value"
	if !e.Lost.Value.IsZero() {
		lost = entry.Quoted(e.Lost.Value)
	}
	return fmt.Sprintf("this set of %s replaced %s, which %s stored at %s and this app had not seen: use %s, which lose nothing",
		e.Name, lost, orSomebody(e.Lost.By), e.Lost.Updated.Local().Format("15:04:05"), e.remedy())
}

func (e *ReplacedError) remedy() string {
	switch e.Now.Kind() {
	case value.KindInt, value.KindFloat:
		return "Add, Raise, Lower, Update or SetIf"
	case value.KindList:
		return "Append, Remove, Update or SetIf"
	}
	return "Update or SetIf"
}
