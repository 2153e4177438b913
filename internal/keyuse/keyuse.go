// Package keyuse stores, beside a namespace, what the runs of its apps did with their declared
// keys. A command can then find a key that no run has read or written: reading leaves no trace in
// the namespace itself.
package keyuse

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

const format = "small-pantry-usage/1"

// Notes record what runs did.
type Notes struct {
	Runs int
	Keys map[string]Use // by name, the keys that the app declares
}

// A Use records what any run did with a key.
type Use struct{ Read, Written bool }

// fields lists the members of the file:
// {"format":…,"runs":3,"keys":{"NAME":{"read":true,"written":false}}}.
func (n *Notes) fields(form *string, runs *int64) []scan.Field {
	keys := scan.Form{Read: func(r *scan.Reader) error {
		return r.Object(func(name []byte) error {
			var use Use
			key := string(name)
			err := r.Fields(value.MaxDepth, use.fields()...)
			n.Keys[key] = use
			return err
		})
	}}
	keys.Write = func(dst []byte) []byte {
		o := scan.AppendObject(dst)
		for _, name := range slices.Sorted(maps.Keys(n.Keys)) {
			use := n.Keys[name]
			o.Dst = scan.AppendFields(o.Name(name), use.fields()...)
		}
		return o.End()
	}
	return []scan.Field{scan.Always("format", form), scan.Always("runs", runs), scan.Always("keys", keys)}
}

func (u *Use) fields() []scan.Field {
	return []scan.Field{scan.Always("read", &u.Read), scan.Always("written", &u.Written)}
}

func path(dir, name string) string { return filepath.Join(dir, "."+name+".usage") }

// Load reads the notes of the namespace called name in dir. If there are none, Runs is 0. The error
// is the file system's, or reports a file that holds no notes.
func Load(dir, name string) (Notes, error) {
	data, err := os.ReadFile(path(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return Notes{}, nil
	}
	if err != nil {
		return Notes{}, err
	}
	n := Notes{Keys: map[string]Use{}}
	var form string
	var runs int64
	if err := scan.ReadFields(data, value.MaxDepth, n.fields(&form, &runs)...); err != nil || form != format {
		return Notes{}, fmt.Errorf("%s does not hold notes on usage; remove it to start again", path(dir, name))
	}
	n.Runs = int(runs)
	return n, nil
}

// Remove removes the notes, if there are any.
func Remove(dir, name string) error {
	err := os.Remove(path(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Add adds what one run did with the keys that it declares, and removes keys that it no longer
// declares. With again, the run was counted before. It must not run concurrently with another Add
// for the same namespace.
func Add(dir, name string, keys map[string]Use, again bool) error {
	n, err := Load(dir, name)
	if err != nil {
		return err
	}
	if !again || n.Runs == 0 {
		n.Runs++
	}
	for key, use := range keys {
		before := n.Keys[key]
		keys[key] = Use{use.Read || before.Read, use.Written || before.Written}
	}
	n.Keys = keys
	form, runs := format, int64(n.Runs)
	data := scan.AppendFields(nil, n.fields(&form, &runs)...)
	// A concurrent reader finds the old file or the new one.
	f, err := os.CreateTemp(dir, "."+name+".usage-*")
	if err != nil {
		return err
	}
	_, err = f.Write(append(data, '\n'))
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path(dir, name))
	}
	if err != nil {
		err = errors.Join(err, os.Remove(f.Name()))
	}
	return err
}
