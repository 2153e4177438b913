package pantry

import (
	"os"
	"strings"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/keyuse"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/sorted"
	"github.com/small-pantry/pantry/internal/test/hooks"
)

// Namespaces returns the names of the namespaces in a directory, in order. It lists files that hold
// at least one intact line. The error wraps fs.ErrNotExist if the directory does not exist. It is
// safe for concurrent use.
func Namespaces(dir string) ([]string, error) {
	files, err := os.ReadDir(dir)
	if err != nil {
		return nil, wrap("list", dir, "", err)
	}
	var names []string
	for _, f := range files {
		name, ok := strings.CutSuffix(f.Name(), ".jsonl")
		if !ok || CheckNamespace(name) != nil {
			continue
		}
		if _, _, err := journal.Peek(journal.DataPath(dir, name)); err == nil {
			names = append(names, name)
		}
	}
	sorted.Strings(names) // this differs from the order of the file names
	return names, nil
}

// Delete removes a whole namespace, for example when a user logs out: its file, the kept copies of
// damaged files, and the notes on usage. The empty lock file stays. It is safe for concurrent use.
//
// The errors are ErrInvalid for a bad name, fs.ErrNotExist if there is no such namespace, ErrBusy
// if this program has it open or another one holds its lock, fs.ErrPermission, and errors of the
// file system. Another program that has the namespace open creates it again with its next commit.
func Delete(dir, name string) error {
	err := CheckNamespace(name)
	if err == nil {
		err = ledger.Delete(dir, name, ledger.Options{Disk: hooks.Of(dir).Disk})
	}
	if err == nil {
		err = keyuse.Remove(dir, name)
	}
	return wrap("delete", name, "", err)
}
