package server

import (
	"net/http"
	"net/url"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keycode"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
)

// maxSamples is the maximum number of records from which the code for a family takes the members.
const maxSamples = 20

// languages write code, by the value of the parameter code.
var languages = map[string]func(keycode.Place) ([]byte, error){
	"go": keycode.Place.Go, "js": keycode.Place.JS, "kotlin": keycode.Place.Kotlin, "swift": keycode.Place.Swift, "curl": keycode.Place.Curl,
}

// keyCode answers with code that declares one name and reads, writes and watches it, as the command
// keys prints it.
func (c *call) keyCode(u url.Values) error {
	name, language := u.Get("name"), u.Get("code")
	if name == "" {
		return wire.Refuse(wire.Invalid, "code needs name, the name of the entry")
	}
	if err := c.grant.Name(name); err != nil {
		return err
	}
	l, err := c.present()
	if err != nil {
		return err
	}
	p := keycode.Place{Board: true, Name: c.board, Link: c.s.link(c.r, c.board, "")}
	write, known := languages[language]
	if !known {
		return wire.Refuse(wire.Invalid, "code is %s, and must be go, js, kotlin, swift or curl", scan.Quote(language))
	}
	if l == nil {
		return wire.Refuse("absent", "no board %s exists, so there is no code for %s", c.board, name)
	}
	snap := l.Snapshot()
	defer snap.Release()
	key, declared := declarationOf(l.Keys(), name)
	prefix := name
	if declared && key.Family {
		prefix = key.Name + "/"
	}
	for e := range snap.Entries(prefix, "") {
		if e.Name != name && prefix == name || len(p.Entries) == maxSamples {
			break
		}
		p.Entries = append(p.Entries, e.Entry())
	}
	switch {
	case declared:
	case len(p.Entries) > 0:
		key = keycode.Undeclared(p.Entries[0])
	default:
		return wire.Refuse("absent", "%s is neither stored nor declared, so there is no code for it", name)
	}
	p.Keys = []entry.Declared{key}
	code, err := write(p)
	if err != nil {
		return err
	}
	answer := wire.Keys{Board: c.board, Version: snap.Version, Mark: mark.Of(snap.Commit()).String(), Closed: l.KeysClosed(), Code: string(code)}
	if declared {
		answer.Keys = p.Keys
	}
	return c.answer(http.StatusOK, answer.AppendJSON(nil))
}

// declarationOf returns the declaration that covers a name: its own, or that of the closest family.
func declarationOf(keys []entry.Declared, name string) (entry.Declared, bool) {
	byID := map[string]entry.Declared{}
	for _, k := range keys {
		byID[k.ID()] = k
	}
	if k, own := byID[name]; own {
		return k, true
	}
	for prefix := range entry.Families(name) {
		if k, family := byID[prefix+"/"]; family && prefix != name {
			return k, true
		}
	}
	return entry.Declared{}, false
}
