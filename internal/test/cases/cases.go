// Package cases holds what every client of a board must do, as data: operations with what they
// answer, and scripts of a server and a network in trouble. The client in Go and the one in
// JavaScript read the same files, and a Server does what they say.
package cases

import (
	_ "embed"
	"encoding/json"
	"time"

	"github.com/small-pantry/pantry/internal/test/hang"
)

// The files.
var (
	//go:embed operations.json
	Operations []byte
	//go:embed trouble.json
	Trouble []byte
	//go:embed typed.json
	Typed []byte
)

// A TypedCase is what a user types for a key: the value in the form of Format, or the sentence.
type TypedCase struct {
	Kind            string
	Min, Max        *float64
	Choices         []string
	Typed           string
	Shown, Sentence string
}

// A Case is one key on one board, and what happens to it in turn.
type Case struct {
	What    string
	Offline bool
	Timeout int  // in milliseconds; 0 means the client's own
	Patient bool // its calls fail before their time is over
	Key     Key
	Steps   []Step
}

// Patience returns how long a client retries a call in a case: long, unless the case has a call that
// fails because its time is over.
func (c Case) Patience() time.Duration {
	if c.Patient {
		return hang.Patience
	}
	for _, s := range c.Steps {
		switch s.Is {
		case "unreachable", "unexpected", "uncertain", "unavailable", "queued":
			return 3 * time.Second
		}
	}
	return hang.Patience
}

// A Key is declared by an app.
type Key struct {
	Kind, Name string
	Default    json.RawMessage
	Min, Max   json.RawMessage
	Choices    []string
	Keep       int
}

// A Step is one thing that happens.
type Step struct {
	Do     string          // an operation of the app
	X      json.RawMessage // its operand
	At     int
	Unique bool
	All    bool
	Is     string          // the code of its error; empty: none
	Found  *bool           // what lookup and take tell
	Item   json.RawMessage // what take returns
	Kind   string          // of what the server holds
	JSON   string

	Server string          // what the server or the network does: see Server.Do
	Others json.RawMessage // an op of somebody else's on the entry
	Name   string          // or on this one
	Until  string          // wait for a phase
	// Problem is the code of a problem to wait for, and Problems how many of that code there are then.
	Problem  string
	Problems int
	Error    string // and for the code of the state's error

	Pending *int            // how many changes are queued, with those that were refused
	Now     json.RawMessage // what the variable shows then
}

// Read reads a file.
func Read(file []byte) (all []Case, err error) {
	err = json.Unmarshal(file, &all)
	return all, err
}
