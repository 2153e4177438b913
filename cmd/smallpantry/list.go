package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
)

func (a *app) list() *cobra.Command {
	var prefix string
	cmd := &cobra.Command{
		Use:   "list PLACE",
		Short: "List entries, namespaces or boards",
		Long: `list PLACE lists the entries of a namespace or a board, and the declared keys that
have their default. list DIR lists the namespaces in a directory, and
list http://HOST:PORT the boards of a server.`,
		Example: "  smallpantry list garden/plotbook\n  smallpantry list http://127.0.0.1:8437/boards/rowan-street --prefix tank/",
		Args:    exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bare, when, err := place.SplitWhen(args[0], time.Now())
			if err != nil {
				return err
			}
			where, err := resolve(bare)
			switch {
			case err != nil:
				return err
			case !when.IsNow(): // of a namespace or a board
			case place.IsURL(where) && !place.IsBoard(where):
				return a.listBoards(cmd.Context(), where)
			case !place.IsURL(where) && place.IsDir(where):
				return a.listNamespaces(where)
			}
			p, err := a.read(args[0], place.Way{})
			if err != nil {
				return err
			}
			defer p.Close()
			l, err := p.List(cmd.Context(), prefix)
			if err != nil {
				return err
			}
			l.Declared = l.Unwritten(prefix)
			if a.json {
				return a.printJSON(l)
			}
			a.printListing(p.Where(), l)
			return nil
		},
	}
	cmd.Flags().StringVar(&prefix, "prefix", "", "only names that begin with `P`")
	return a.withJSON(cmd)
}

func (a *app) printListing(where string, l place.Listing) {
	fmt.Fprintf(a.stdout, "%s\n", where)
	size := ""
	if info, err := os.Stat(l.Path); err == nil {
		size = ", " + term.Size(info.Size())
	}
	fmt.Fprintf(a.stdout, "version %d, %s%s\n\n", l.Version, term.Counted(len(l.Entries), "entry", "entries"), size)
	t := a.out().Table("name", "kind", "value", "version", "age", "by")
	t.Flexible = []int{2, 0}
	slices.SortFunc(l.Entries, func(a, b entry.Entry) int { return term.Natural(a.Name, b.Name) })
	slices.SortFunc(l.Declared, func(a, b entry.Declared) int { return term.Natural(a.Name, b.Name) })
	for _, e := range l.Entries {
		t.Row(e.Name, e.Value.Kind().String(), term.Shown(e.Value), fmt.Sprint(e.Version), term.Age(e.Updated), e.By)
	}
	for _, k := range l.Declared {
		t.Row(k.Name, k.Kind.String(), term.Shown(k.Default)+"  (default)", "", "", "")
	}
	t.Print()
}

func (a *app) listNamespaces(dir string) error {
	names, err := pantry.Namespaces(dir)
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
	for _, name := range names {
		n := namespace{Namespace: name, Path: filepath.Join(dir, name+".jsonl")}
		if info, err := os.Stat(n.Path); err == nil {
			n.Bytes = info.Size()
		}
		ns, err := pantry.Open(dir, name, pantry.ReadOnly(), pantry.AnySchema(), pantry.OnProblem(func(p pantry.Problem) { a.way(place.Way{}).Tell(filepath.Join(dir, name), p) }))
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
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", dir, term.Counted(len(list), "namespace", "namespaces"))
	t := a.out().Table("namespace", "entries", "version", "bytes", "")
	t.Flexible = []int{4}
	for _, n := range list {
		t.Row(n.Namespace, fmt.Sprint(n.Entries), fmt.Sprint(n.Version), fmt.Sprint(n.Bytes), n.Error)
	}
	t.Print()
	return nil
}
