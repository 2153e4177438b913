package main

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/gocode"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/term"
)

func (a *app) keys() *cobra.Command {
	var goCode, closed bool
	var withdrawn string
	cmd := &cobra.Command{
		Use:   "keys PLACE",
		Short: "List the declared keys",
		Long: `keys lists the keys that apps have declared in the place. --go prints them as Go
declarations for a second app, so that both use the same names. --withdraw removes a
declaration; the stored value stays. --close makes the board refuse names that are
not declared, and --close=false accepts them again.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			withdraws, closes := cmd.Flags().Changed("withdraw"), cmd.Flags().Changed("close")
			switch {
			case goCode && (withdraws || closes), withdraws && closes:
				return usage("use only one of --go, --close and --withdraw")
			case withdraws:
				return a.withdraw(cmd.Context(), args[0], withdrawn)
			case closes:
				return a.closeKeys(cmd.Context(), args[0], closed)
			}
			keys, err := a.declared(cmd.Context(), args[0])
			switch {
			case err != nil:
				return err
			case goCode:
				code, err := gocode.Keys(keys)
				_, _ = a.stdout.Write(code)
				return err
			case a.json:
				return a.printJSON(map[string]any{"place": place.Shown(args[0]), "keys": append([]entry.Declared{}, keys...)})
			}
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
			return nil
		},
	}
	cmd.Flags().BoolVar(&goCode, "go", false, "print Go declarations")
	cmd.Flags().BoolVar(&closed, "close", false, "refuse undeclared names on a board")
	cmd.Flags().StringVar(&withdrawn, "withdraw", "", "take the declaration of `NAME` back")
	return a.withJSON(cmd)
}

func (a *app) withdraw(ctx context.Context, where, name string) error {
	if err := checkNames(name); err != nil {
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

func (a *app) declared(ctx context.Context, where string) ([]entry.Declared, error) {
	p, err := a.read(where, place.Way{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	l, err := p.List(ctx, "")
	return l.Declared, err
}
