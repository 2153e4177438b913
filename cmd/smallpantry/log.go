package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/value"
)

func (a *app) log() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use:   "log PLACE [NAME...]",
		Short: "Tell the newest commits: old, new, when, by whom",
		Long: `log tells the newest commits that the place keeps, newest first, and what each
changed from what to what; with NAMEs only those that changed one of them. Any
of their versions can stand behind a PLACE: see diff and restore.`,
		Example: "  smallpantry log garden/plotbook reminder-hour -n 5",
		Args:    atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkNames(args[1:]...); err != nil {
				return err
			}
			if limit < 1 {
				return usage("-n is %d, and must be at least 1", limit)
			}
			p, err := a.open(args[0], way{})
			if err != nil {
				return err
			}
			defer p.Close()
			commits, err := p.history(cmd.Context(), limit, args[1:])
			if err != nil {
				return err
			}
			if a.json {
				for _, c := range commits {
					if err := a.printJSON(commitJSON(c)); err != nil {
						return err
					}
				}
				return nil
			}
			t := a.table("version", "age", "name", "old", "", "new", "by")
			t.flexible = []int{3, 5, 2}
			for _, c := range commits {
				version, when, by := fmt.Sprint(c.Version), age(c.Time), c.By
				for _, ch := range c.Changes {
					t.row(version, when, ch.Name, orDash(ch.Old), "→", orDash(ch.New), by)
					version, when, by = "", "", ""
				}
			}
			t.print()
			return nil
		},
	}
	cmd.Flags().IntVarP(&limit, "number", "n", 20, "at most `N` commits")
	return a.withJSON(cmd)
}

// orDash is a value in a table; nothing is a dash.
func orDash(v value.Value) string {
	if v.IsZero() {
		return "–"
	}
	return shown(v)
}

// brief is orDash for a line by itself, which is not to be many lines long.
func brief(v value.Value) string {
	const most = 60
	r := []rune(orDash(v))
	if len(r) > most {
		r = append(r[:most-1], '…')
	}
	return string(r)
}

// A changeJSON is a change as JSON: old or new is null where nothing was, or
// is, stored, and then has no kind.
type changeJSON struct {
	Name    string      `json:"name"`
	Old     value.Value `json:"old"`
	New     value.Value `json:"new"`
	OldKind value.Kind  `json:"old_kind,omitzero"`
	NewKind value.Kind  `json:"new_kind,omitzero"`
}

func changesJSON(changes []board.Change) []changeJSON {
	out := []changeJSON{}
	for _, ch := range changes {
		out = append(out, changeJSON{ch.Name, ch.Old, ch.New, ch.Old.Kind(), ch.New.Kind()})
	}
	return out
}

func commitJSON(c board.CommitInfo) any {
	return struct {
		Version int64        `json:"version"`
		At      string       `json:"at"`
		By      string       `json:"by,omitempty"`
		Changes []changeJSON `json:"changes"`
	}{c.Version, c.Time.Format("2006-01-02T15:04:05.000Z"), c.By, changesJSON(c.Changes)}
}

// splitVersion takes @VERSION from the end of a PLACE; -1: there is none.
func splitVersion(place string) (bare string, version int64, err error) {
	at := strings.LastIndexByte(place, '@')
	if at <= 0 {
		return place, -1, nil
	}
	v, err := value.FromTyped(value.KindInt, place[at+1:])
	version, isInt := v.AsInt()
	if err != nil || !isInt || version < 0 {
		return "", 0, usage("behind the @ of %s there must be a version, as in garden/plotbook@12; log tells them", value.Quote(place))
	}
	return place[:at], version, nil
}
