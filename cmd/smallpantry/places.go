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

	"github.com/small-pantry/pantry/internal/cli/place"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/scan"
)

func (a *app) places() *cobra.Command {
	cmd := a.withJSON(&cobra.Command{
		Use:   "places",
		Short: "Short names for places: @NAME",
		Long: `places lists the short names of places, and the configuration file that holds them,
which only you can read. A kept place saves typing a link, and keeps its token out of
your shell's history.`,
		Args: exactly(0),
		RunE: func(*cobra.Command, []string) error { return a.listPlaces() },
	})
	cmd.AddCommand(
		&cobra.Command{
			Use: "keep NAME PLACE", Example: `  smallpantry places keep garden http://127.0.0.1:8437/boards/rowan-street
  echo "$LINK" | smallpantry places keep garden -`, Short: "Keep a place under a name; - reads the PLACE from standard input", Args: exactly(2),
			RunE: func(_ *cobra.Command, args []string) error { return a.keepPlace(args[0], args[1]) },
		},
		&cobra.Command{
			Use: "forget NAME", Example: `  smallpantry places forget garden`, Short: "Remove a name", Args: exactly(1),
			RunE: func(_ *cobra.Command, args []string) error {
				all, err := keptPlaces()
				if err != nil {
					return err
				}
				if _, found := all[args[0]]; !found {
					return exitError{exitAbsent, fmt.Sprintf("no place is kept under %s", scan.Quote(args[0]))}
				}
				delete(all, args[0])
				return writePlaces(all)
			},
		},
	)
	return cmd
}

func placesPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("find the configuration file: %w", err)
	}
	return filepath.Join(dir, "small-pantry", "places.json"), nil
}

func keptPlaces() (map[string]string, error) {
	path, err := placesPath()
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
		return nil, fmt.Errorf("read the places in %s: %w", path, err)
	}
	return all, nil
}

func writePlaces(all map[string]string) error {
	path, err := placesPath()
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

func (a *app) keepPlace(name, where string) error {
	if name == "" || strings.ContainsAny(name, "@/ #") {
		return usage("%s can't be a place's name: it can't contain @, /, # or a space", scan.Quote(name))
	}
	if where == "-" {
		line, err := bufio.NewReader(a.stdin).ReadString('\n')
		if where = strings.TrimSpace(line); where == "" {
			return fmt.Errorf("no place on standard input: %w", err)
		}
	}
	if !place.IsURL(where) {
		if _, _, err := place.Split(where); err != nil {
			return err
		}
		abs, err := filepath.Abs(where)
		if err != nil {
			return err
		}
		where = abs
	}
	all, err := keptPlaces()
	if err != nil {
		return err
	}
	all[name] = where
	return writePlaces(all)
}

func (a *app) listPlaces() error {
	path, err := placesPath()
	if err != nil {
		return err
	}
	all, err := keptPlaces()
	if err != nil {
		return err
	}
	for name, where := range all {
		if head, _, has := strings.Cut(where, "#"); has && place.IsURL(where) {
			all[name] = head + "#…"
		}
	}
	if a.json {
		return a.printJSON(map[string]any{"path": path, "places": all})
	}
	fmt.Fprintf(a.stdout, "%s\n%s\n\n", path, term.Counted(len(all), "place", "places"))
	t := a.out().Table("name", "place")
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t.Row("@"+name, all[name])
	}
	t.Print()
	return nil
}

// resolve returns the place kept as @NAME. A link without a token gets the one in
// SMALLPANTRY_TOKEN.
func resolve(where string) (string, error) {
	if name, is := strings.CutPrefix(where, "@"); is {
		all, err := keptPlaces()
		if err != nil {
			return "", err
		}
		if where = all[name]; where == "" {
			return "", usage("no place is kept under %s; the command places lists them", scan.Quote(name))
		}
	}
	if token := os.Getenv("SMALLPANTRY_TOKEN"); token != "" && place.IsURL(where) && !strings.Contains(where, "#") {
		where += "#" + token
	}
	return where, nil
}
