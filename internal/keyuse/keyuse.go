// Package keyuse keeps beside a namespace what the runs of its apps did with
// their declared keys, so that a command can find a key that no run has read
// or written: reading leaves nothing in the namespace itself.
package keyuse

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

const format = "small-pantry-usage/1"

// Notes are what runs did.
type Notes struct {
	Format string         `json:"format"`
	Runs   int            `json:"runs"`
	Keys   map[string]Use `json:"keys"` // by name, those that the app declares
}

// A Use says what any run did with a key.
type Use struct {
	Read    bool `json:"read"`
	Written bool `json:"written"`
}

func path(dir, name string) string { return filepath.Join(dir, "."+name+".usage") }

// Load gives the notes about the namespace called name in dir; where there are
// none, Runs is 0. The error is the file system's, or that of a file which
// can't be read as notes.
func Load(dir, name string) (Notes, error) {
	data, err := os.ReadFile(path(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return Notes{}, nil
	}
	if err != nil {
		return Notes{}, err
	}
	var n Notes
	if err := json.Unmarshal(data, &n); err != nil || n.Format != format {
		return Notes{}, fmt.Errorf("%s does not hold notes on usage: remove it, and it begins anew", path(dir, name))
	}
	return n, nil
}

// Add adds what one run did with the keys that it declares; keys that it does
// not declare any more are forgotten. With again the run was counted before.
// It must not run at once with another Add of the same namespace.
func Add(dir, name string, keys map[string]Use, again bool) error {
	n, err := Load(dir, name)
	if err != nil {
		return err
	}
	if !again || n.Runs == 0 {
		n.Runs++
	}
	n.Format = format
	for key, use := range keys {
		before := n.Keys[key]
		keys[key] = Use{use.Read || before.Read, use.Written || before.Written}
	}
	n.Keys = keys
	data, err := json.Marshal(n)
	if err != nil {
		return err
	}
	// Whoever reads it meanwhile finds the old one or the new one.
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
