package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/keycode"
)

func (a *app) keys() *cobra.Command {
	var closed bool
	languages := map[string]*bool{}
	var withdrawn string
	cmd := &cobra.Command{
		Use: "keys PLACE",
		Example: `  smallpantry keys garden/plotbook
  smallpantry keys @garden --go > main.go
  smallpantry keys @garden --close`,
		Short: "List the declared keys",
		Long: `keys lists the keys that apps have declared in the place. --go prints them as a Go
program for a second app, so that both use the same names; --js, --kotlin and --swift as
code in these languages, and --curl as shell lines. --withdraw removes a declaration; the
stored value stays. --close makes the board refuse names that are
not declared, and --close=false accepts them again.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			withdraws, closes := cmd.Flags().Changed("withdraw"), cmd.Flags().Changed("close")
			switch {
			case chosen(languages) > 1, chosen(languages) == 1 && (withdraws || closes), withdraws && closes:
				return usage("use only one of --go, --js, --kotlin, --swift, --curl, --close and --withdraw")
			case withdraws:
				return a.withdraw(cmd.Context(), args[0], withdrawn)
			case closes:
				return a.closeKeys(cmd.Context(), args[0], closed)
			}
			l, err := a.listed(cmd.Context(), args[0])
			keys := l.Declared
			switch {
			case err != nil:
				return err
			case chosen(languages) > 0:
				return a.printCode(args[0], l, languages)
			case a.json:
				return a.printJSON(map[string]any{"place": place.Shown(args[0]), "keys": append([]entry.Declared{}, keys...)})
			}
			a.printKeys(keys)
			return nil
		},
	}
	for name, what := range map[string]string{
		"go": "a Go program", "js": "a JavaScript module for a board", "kotlin": "Kotlin code", "swift": "Swift code", "curl": "shell lines for a board",
	} {
		languages[name] = cmd.Flags().Bool(name, false, "print the keys as "+what)
	}
	cmd.Flags().BoolVar(&closed, "close", false, "refuse undeclared names on a board")
	cmd.Flags().StringVar(&withdrawn, "withdraw", "", "remove the declaration of `NAME`; NAME/ is a family")
	return a.withJSON(cmd)
}

func (a *app) withdraw(ctx context.Context, where, name string) error {
	if err := checkNames(strings.TrimSuffix(name, "/")); err != nil {
		return err
	}
	p, err := a.change(where, place.Way{Write: true})
	if err != nil {
		return err
	}
	defer p.Close()
	k, version, err := p.Withdraw(ctx, name)
	switch {
	case err != nil:
		return err
	case a.json:
		return a.printJSON(map[string]any{"version": version, "withdrawn": k})
	}
	fmt.Fprintf(a.stdout, "%s is no longer declared; an app that still has the key declares it again\n", name)
	return nil
}

func (a *app) closeKeys(ctx context.Context, where string, closed bool) error {
	p, err := a.change(where, place.Way{Write: true})
	if err != nil {
		return err
	}
	defer p.Close()
	version, err := p.CloseKeys(ctx, closed)
	switch {
	case err != nil:
		return err
	case a.json:
		return a.printJSON(map[string]any{"version": version, "closed": closed})
	case closed:
		fmt.Fprintln(a.stdout, "only declared names can be written now; keys --close=false changes that")
	default:
		fmt.Fprintln(a.stdout, "any name can be written now")
	}
	return nil
}

func (a *app) listed(ctx context.Context, where string) (place.Listing, error) {
	p, err := a.read(where, place.Way{})
	if err != nil {
		return place.Listing{}, err
	}
	defer p.Close()
	return p.List(ctx, "")
}

// chosen returns how many languages are chosen.
func chosen(languages map[string]*bool) (n int) {
	for _, on := range languages {
		if *on {
			n++
		}
	}
	return n
}

// printCode prints the keys as code in the chosen language.
func (a *app) printCode(where string, l place.Listing, languages map[string]*bool) error {
	where, err := resolve(where)
	if err != nil {
		return err
	}
	p := keycode.Place{Board: place.IsURL(where), Keys: l.Declared, Entries: l.Entries}
	if p.Board {
		p.Link, _, _ = strings.Cut(where, "#")
		p.Name = p.Link[strings.LastIndexByte(p.Link, '/')+1:]
	} else if p.Dir, p.Name, err = place.Split(where); err != nil {
		return err
	}
	for name, write := range map[string]func() ([]byte, error){"go": p.Go, "js": p.JS, "kotlin": p.Kotlin, "swift": p.Swift, "curl": p.Curl} {
		if !*languages[name] {
			continue
		}
		if !p.Board && (name == "js" || name == "curl") {
			return usage("--%s needs a board; a namespace on this device can be read with --go, --kotlin and --swift", name)
		}
		code, err := write()
		_, _ = a.stdout.Write(code)
		return err
	}
	return nil
}

// printKeys prints declarations as a table.
func (a *app) printKeys(keys []entry.Declared) {
	// Only boards know who declared a key.
	byWhom := slices.ContainsFunc(keys, func(k entry.Declared) bool { return k.By != "" })
	titles := []string{"name", "kind", "default", "allowed", "about"}
	if byWhom {
		titles = append(titles, "by")
	}
	t := a.out().Table(titles...)
	t.Flexible = []int{4, 3}
	for _, k := range keys {
		name := k.Name
		if k.Family {
			name += "/…"
		}
		def := ""
		if !k.Default.IsZero() {
			def = term.Shown(k.Default)
		}
		row := []string{name, k.Kind.String(), def, k.Allowed(), k.About}
		if byWhom {
			row = append(row, k.By)
		}
		t.Row(row...)
	}
	if len(keys) == 0 {
		fmt.Fprintln(a.stdout, "no keys are declared here")
	}
	t.Print()
}
