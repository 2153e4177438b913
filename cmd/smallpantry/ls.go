package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

func (a *app) ls() *cobra.Command {
	var prefix string
	cmd := &cobra.Command{
		Use:   "ls PLACE",
		Short: "List entries, namespaces or boards",
		Long: `ls PLACE lists the entries of a namespace or a board, and the declared keys that
stand at their default; ls DIR lists the namespaces in a directory, and
ls http://HOST:PORT the boards of a server.`,
		Example: "  smallpantry ls garden/plotbook\n  smallpantry ls http://127.0.0.1:8437/b/rowan-street --prefix tank/",
		Args:    exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bare, version, err := splitVersion(args[0])
			if err != nil {
				return err
			}
			where, err := resolve(bare)
			switch {
			case err != nil:
				return err
			case version >= 0: // of a namespace or a board
			case isURL(where) && !strings.Contains(where, "/b/"):
				return a.listBoards(cmd.Context(), where)
			case !isURL(where) && isDir(where):
				return a.listNamespaces(where)
			}
			p, err := a.open(args[0], way{})
			if err != nil {
				return err
			}
			defer p.Close()
			l, err := p.list(cmd.Context(), prefix)
			if err != nil {
				return err
			}
			l.Declared = unwritten(l, prefix)
			if a.json {
				return a.printJSON(l)
			}
			a.printListing(p.where(), l)
			return nil
		},
	}
	cmd.Flags().StringVar(&prefix, "prefix", "", "only names that begin with `P`")
	return a.withJSON(cmd)
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// unwritten gives the declared keys that stand at their default.
func unwritten(l listing, prefix string) []pantry.DeclaredKey {
	written := map[string]bool{}
	for _, e := range l.Entries {
		written[e.Name] = true
	}
	out := []pantry.DeclaredKey{}
	for _, k := range l.Declared {
		if !written[k.Name] && !k.Many && strings.HasPrefix(k.Name, prefix) {
			out = append(out, k)
		}
	}
	return out
}

func (a *app) printListing(where string, l listing) {
	fmt.Fprintf(a.stdout, "%s\n", where)
	size := ""
	if info, err := os.Stat(l.Path); err == nil {
		size = ", " + sizeText(info.Size())
	}
	fmt.Fprintf(a.stdout, "version %d, %s%s\n\n", l.Version, counted(len(l.Entries), "entry", "entries"), size)
	t := a.table("name", "kind", "value", "version", "age", "by")
	t.flexible = []int{2, 0}
	for _, e := range l.Entries {
		t.row(e.Name, e.Value.Kind().String(), shown(e.Value), fmt.Sprint(e.Version), age(e.Updated), e.By)
	}
	for _, k := range l.Declared {
		t.row(k.Name, k.Kind.String(), shown(k.Default)+"  (default)", "", "", "")
	}
	t.print()
}

// shown is a value in a table: on one line, and text that could be taken for
// something else in quotes.
func shown(v value.Value) string {
	s := v.String()
	if v.Kind() != value.KindText {
		return s
	}
	if guess, err := value.Infer(s); s == "" || err != nil || guess.Kind() != value.KindText || strings.ContainsFunc(s, unicode.IsControl) || strings.TrimSpace(s) != s {
		return string(v.AppendJSON(nil))
	}
	return s
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (a *app) listNamespaces(dir string) error {
	files, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	type namespace struct {
		Namespace string `json:"namespace"`
		Path      string `json:"path"`
		Version   int64  `json:"version"`
		Entries   int    `json:"entries"`
		Bytes     int64  `json:"bytes"`
		Error     string `json:"error,omitempty"`
	}
	list := []namespace{}
	for _, f := range files {
		name, ok := strings.CutSuffix(f.Name(), ".jsonl")
		if !ok || pantry.CheckNamespace(name) != nil || notExport(dir, name) != nil {
			continue
		}
		n := namespace{Namespace: name, Path: filepath.Join(dir, f.Name())}
		if info, err := f.Info(); err == nil {
			n.Bytes = info.Size()
		}
		ns, err := pantry.Open(dir, name, pantry.ReadOnly(), pantry.OnProblem(a.tell(filepath.Join(dir, name), way{})))
		if err != nil {
			n.Error = err.Error()
		} else {
			n.Version = ns.Version()
			for range ns.Entries("") {
				n.Entries++
			}
			ns.Close()
		}
		list = append(list, n)
	}
	if a.json {
		return a.printJSON(map[string]any{"dir": dir, "namespaces": list})
	}
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", dir, counted(len(list), "namespace", "namespaces"))
	t := a.table("namespace", "entries", "version", "bytes", "")
	t.flexible = []int{4}
	for _, n := range list {
		t.row(n.Namespace, fmt.Sprint(n.Entries), fmt.Sprint(n.Version), fmt.Sprint(n.Bytes), n.Error)
	}
	t.print()
	return nil
}

func (a *app) listBoards(ctx context.Context, address string) error {
	list, err := board.List(ctx, address, board.Patience(patience))
	if err != nil {
		return err
	}
	if a.json {
		if list == nil {
			list = []board.Summary{}
		}
		return a.printJSON(map[string]any{"server": address, "boards": list})
	}
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", address, counted(len(list), "board", "boards"))
	t := a.table("board", "entries", "version")
	for _, b := range list {
		t.row(b.Board, fmt.Sprint(b.Entries), fmt.Sprint(b.Version))
	}
	t.print()
	return nil
}
