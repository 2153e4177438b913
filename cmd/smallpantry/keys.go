package main

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
)

func (a *app) keys() *cobra.Command {
	var goCode bool
	cmd := &cobra.Command{
		Use:   "keys PLACE",
		Short: "List the declared keys",
		Long: `keys lists the keys that apps have declared in the place. --go prints them as Go
declarations for a second app, which then can't spell a name differently.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys, err := a.declared(cmd.Context(), args[0])
			switch {
			case err != nil:
				return err
			case goCode:
				return a.printGo(keys)
			case a.json:
				return a.printJSON(map[string]any{"place": args[0], "keys": keys})
			}
			t := a.table("name", "kind", "default", "from", "to", "keep", "about")
			t.flexible = []int{6}
			for _, k := range keys {
				name, keep := k.Name, ""
				if k.Many {
					name += "/…"
				}
				if k.Keep > 0 {
					keep = fmt.Sprint(k.Keep)
				}
				t.row(name, k.Kind.String(), shownDefault(k), k.Min.String(), k.Max.String(), keep, k.About)
			}
			if len(keys) == 0 {
				fmt.Fprintln(a.stdout, "no app has declared keys here")
			}
			t.print()
			return nil
		},
	}
	cmd.Flags().BoolVar(&goCode, "go", false, "print Go declarations")
	return a.withJSON(cmd)
}

func (a *app) declared(ctx context.Context, where string) ([]pantry.DeclaredKey, error) {
	p, err := a.open(where, way{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	l, err := p.list(ctx, "")
	return l.Declared, err
}

func shownDefault(k pantry.DeclaredKey) string {
	if k.Default.IsZero() {
		return ""
	}
	return shown(k.Default)
}
