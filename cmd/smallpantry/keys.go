package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/gocode"
	"github.com/small-pantry/pantry/internal/place"
	"github.com/small-pantry/pantry/internal/term"
)

func (a *app) keys() *cobra.Command {
	var goCode bool
	var withdrawn string
	cmd := &cobra.Command{
		Use:   "keys PLACE",
		Short: "List the declared keys",
		Long: `keys lists the keys that apps have declared in the place. --go prints them as Go
declarations for a second app, which then can't spell a name differently.
--withdraw takes a declaration back that no app makes any more; what is stored
under the name stays.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("withdraw") {
				if goCode {
					return usage("--go and --withdraw do different things")
				}
				return a.withdraw(cmd.Context(), args[0], withdrawn)
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
				return a.printJSON(map[string]any{"place": args[0], "keys": append([]entry.Declared{}, keys...)})
			}
			t := a.out().Table("name", "kind", "default", "allowed", "about")
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
				t.Row(name, k.Kind.String(), def, k.Allowed(), k.About)
			}
			if len(keys) == 0 {
				fmt.Fprintln(a.stdout, "no app has declared keys here")
			}
			t.Print()
			return nil
		},
	}
	cmd.Flags().BoolVar(&goCode, "go", false, "print Go declarations")
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
	fmt.Fprintf(a.stdout, "%s is declared no more; an app that still has the key declares it again\n", name)
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
