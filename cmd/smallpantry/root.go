package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/term"
)

// app is one call of the command.
type app struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	json           bool
	force          bool             // what is declared does not hold
	running        bool             // the call was in order
	quiet          bool             // problems are not named: they will be findings
	problems       []pantry.Problem // that opening a place met
	damaged        bool             // what was read is what is left of a damaged file
}

func init() {
	cobra.EnableCommandSorting = false // they stand in the order in which people work
}

func interruptible() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

func (a *app) root() *cobra.Command {
	var root *cobra.Command
	root = &cobra.Command{
		Use:   "smallpantry",
		Short: "Keep small values on this device and on boards that several apps share",
		Long: `smallpantry looks into namespaces on this device and boards of the shared
store, changes what is there, and serves boards.

A PLACE is DIR/NAMESPACE on this device, or http://HOST:PORT/boards/BOARD.
PLACE@WHEN is that place as it was: at a version (@12), a moment
(@2026-05-03T09:00) or so long ago (@-10m, @-2h, @-3d).

Exit codes: 0 done, 1 failed, differs or has findings, 2 wrong usage, 3 absent,
4 refused by a condition or by kind, 5 not allowed, 6 the server can't be reached.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			root.SuggestionsMinimumDistance = 1 + min(len(args[0])/5, 1) // in a short word two slips make another
			if like := root.SuggestionsFor(args[0]); len(like) > 0 {
				return fmt.Errorf("there is no command %q; did you mean %s?", args[0], strings.Join(like, " or "))
			}
			return fmt.Errorf("there is no command %q", args[0])
		},
		RunE:             func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRun: func(*cobra.Command, []string) { a.running = true },
	}
	root.Version = version()
	root.SetVersionTemplate("{{.Version}}\n")
	root.SetIn(a.stdin)
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	for _, group := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Look", []*cobra.Command{a.list(), a.get(), a.history(), a.compare(), a.watch(), a.keys()}},
		{"Change", append([]*cobra.Command{a.put(), a.drop(), a.rename(), a.reset()}, a.operations()...)},
		{"Undo", []*cobra.Command{a.restore()}},
		{"Move", []*cobra.Command{a.copy(), a.export(), a.importFile()}},
		{"Share", []*cobra.Command{a.serve(), a.board(), a.places()}},
		{"Keep going", []*cobra.Command{a.check(), a.repair(), a.demo()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.title, Title: group.title + ":"})
		for _, cmd := range group.commands {
			cmd.GroupID = group.title
			root.AddCommand(cmd)
		}
	}
	root.SetHelpCommandGroupID("Keep going")
	root.SetCompletionCommandGroupID("Keep going")
	return root
}

// version tells which program it is: its version, commit and Go's version.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "smallpantry, of no known version"
	}
	commit := "no known commit"
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			commit = "commit " + s.Value[:min(12, len(s.Value))]
		}
	}
	return fmt.Sprintf("smallpantry %s, %s, %s", info.Main.Version, commit, info.GoVersion)
}

// out is where results go.
func (a *app) out() term.Out { return term.Out{Writer: a.stdout} }

// printJSON prints one object on one line.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.stdout)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// withJSON gives a command the flag --json.
func (a *app) withJSON(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.json, "json", false, "print JSON")
	return cmd
}

// withForce gives a command that changes values the flag --force.
func (a *app) withForce(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.force, "force", false, "go past what an app has declared: kind, range, choices, length")
	return cmd
}

// exactly takes n arguments, which usage names.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		return fmt.Errorf("%s takes %s, and was given %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

// atMost takes n arguments or fewer.
func atMost(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) <= n {
			return nil
		}
		return fmt.Errorf("%s takes at most %s, and was given %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

// atLeast takes n arguments or more.
func atLeast(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) >= n {
			return nil
		}
		return fmt.Errorf("%s takes at least %s, and was given %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

var negative = regexp.MustCompile(`^-[0-9.]`)

// reorder puts the flags of a call before "--" and its arguments behind it, so
// that a negative number among them is not taken for a flag.
func reorder(root *cobra.Command, args []string) []string {
	cmd, rest, err := root.Find(args)
	if err != nil || cmd == root {
		return args
	}
	words := args[:len(args)-len(rest)]
	var flags, plain []string
	for i := 0; i < len(rest); i++ {
		arg := rest[i]
		switch {
		case arg == "--":
			plain = append(plain, rest[i+1:]...)
			i = len(rest)
		case len(arg) < 2 || arg[0] != '-' || negative.MatchString(arg):
			plain = append(plain, arg)
		default:
			flags = append(flags, arg)
			if takesValue(cmd, arg) && i+1 < len(rest) {
				i++
				flags = append(flags, rest[i])
			}
		}
	}
	out := append(append([]string{}, words...), flags...)
	return append(append(out, "--"), plain...)
}

// takesValue says whether the next argument belongs to the flag arg.
func takesValue(cmd *cobra.Command, arg string) bool {
	var f *pflag.Flag
	switch {
	case len(arg) > 2 && arg[:2] == "--":
		f = cmd.Flags().Lookup(arg[2:])
	case len(arg) == 2:
		f = cmd.Flags().ShorthandLookup(arg[1:])
	}
	return f != nil && f.NoOptDefVal == ""
}
