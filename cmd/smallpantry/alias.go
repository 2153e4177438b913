package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2/maybe"
	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

func (a *app) alias() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "alias",
		Short: "Give places short names: @NAME",
		Long: `alias keeps short names for places in the configuration file, which only you
can read, so that a link with its token need not be typed, nor stand in a
shell's history.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("there is no alias command %q: use set, list or rm", args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(
		&cobra.Command{
			Use: "set NAME PLACE", Short: "Set an alias; the PLACE - is read from standard input", Args: exactly(2),
			RunE: func(_ *cobra.Command, args []string) error { return a.setAlias(args[0], args[1]) },
		},
		a.withJSON(&cobra.Command{
			Use: "list", Short: "List the aliases; tokens are not shown", Args: exactly(0),
			RunE: func(*cobra.Command, []string) error { return a.listAliases() },
		}),
		&cobra.Command{
			Use: "rm NAME", Short: "Remove an alias", Args: exactly(1),
			RunE: func(_ *cobra.Command, args []string) error {
				all, err := readAliases()
				if err != nil {
					return err
				}
				if _, found := all[args[0]]; !found {
					return exitError{exitAbsent, fmt.Sprintf("there is no alias %s", value.Quote(args[0]))}
				}
				delete(all, args[0])
				return writeAliases(all)
			},
		},
	)
	return cmd
}

func aliasPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the configuration file: %w", err)
	}
	return filepath.Join(dir, "small-pantry", "aliases.json"), nil
}

func readAliases() (map[string]string, error) {
	path, err := aliasPath()
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("read the aliases in %s: %w", path, err)
	}
	return all, nil
}

func writeAliases(all map[string]string) error {
	path, err := aliasPath()
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = maybe.WriteFile(path, append(data, '\n'), 0o600)
	}
	return err
}

func (a *app) setAlias(name, place string) error {
	if name == "" || strings.ContainsAny(name, "@/ #") {
		return usage("%s can't be an alias: it takes no @, /, # and space", value.Quote(name))
	}
	if place == "-" {
		line, err := bufio.NewReader(a.stdin).ReadString('\n')
		if place = strings.TrimSpace(line); place == "" {
			return fmt.Errorf("there is no place on standard input: %w", err)
		}
	}
	if !isURL(place) {
		if _, _, err := splitPlace(place); err != nil {
			return err
		}
		abs, err := filepath.Abs(place)
		if err != nil {
			return err
		}
		place = abs
	}
	all, err := readAliases()
	if err != nil {
		return err
	}
	all[name] = place
	return writeAliases(all)
}

func (a *app) listAliases() error {
	all, err := readAliases()
	if err != nil {
		return err
	}
	for name, place := range all {
		if head, _, has := strings.Cut(place, "#"); has && isURL(place) {
			all[name] = head + "#…"
		}
	}
	if a.json {
		return a.printJSON(map[string]any{"aliases": all})
	}
	t := a.table("alias", "place")
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t.row("@"+name, all[name])
	}
	t.print()
	return nil
}

// resolve gives the place that @NAME stands for, and to a link without a token
// that of SMALLPANTRY_TOKEN.
func resolve(place string) (string, error) {
	if name, is := strings.CutPrefix(place, "@"); is {
		all, err := readAliases()
		if err != nil {
			return "", err
		}
		if place = all[name]; place == "" {
			return "", usage("there is no alias %s; alias list shows those that are", value.Quote(name))
		}
	}
	if token := os.Getenv("SMALLPANTRY_TOKEN"); token != "" && isURL(place) && !strings.Contains(place, "#") {
		place += "#" + token
	}
	return place, nil
}
