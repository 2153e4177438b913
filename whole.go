package pantry

import (
	"os"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/keyuse"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/test/hooks"
)

// Namespaces gives the names of the namespaces in a directory, in order: of the
// files in it those that hold at least one intact line. The error wraps
// fs.ErrNotExist where there is no directory. It is safe for concurrent use.
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
	slices.Sort(names) // which is another order than that of the files
	return names, nil
}

// Delete removes a whole namespace, as when a user logs out: its file, what was
// kept beside it of damaged ones, and the notes on usage; its lock's file stays, and
// holds nothing. It is safe for concurrent use.
//
// The errors are ErrInvalid for a bad name, fs.ErrNotExist where there is no such
// namespace, ErrBusy where this program has it open or another keeps its lock,
// fs.ErrPermission, and the file system's own. Another program that has the
// namespace open writes it again with its next commit.
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
