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
	"github.com/small-pantry/pantry/internal/cli"
	"github.com/small-pantry/pantry/internal/cli/term"
)

// An app is one call of the command.
type app struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	json           bool
	force          bool             // --force: skip the checks of declared keys
	running        bool             // the arguments were valid
	quiet          bool             // don't print problems; they will be findings
	problems       []pantry.Problem // found when a place was opened
	damaged        bool             // what was read is only the intact part of a damaged file
}

func init() {
	cobra.EnableCommandSorting = false // list commands in the order of their use
}

func interruptible() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

func (a *app) root() *cobra.Command {
	var root *cobra.Command
	root = &cobra.Command{
		Use:   "smallpantry",
		Short: "Keep small values on this device and on boards that several apps share",
		Long: `smallpantry reads and changes namespaces on this device and boards of the shared
store, and serves boards.

A PLACE is DIR/NAMESPACE on this device, or http://HOST:PORT/boards/BOARD.
PLACE@WHEN is that place in the past: at a version (@12), at a time
(@2026-05-03T09:00) or some time ago (@-10m, @-2h, @-3d).

Exit codes: 0 done, 1 failed, differs or has findings, 2 wrong usage, 3 absent,
4 refused by a condition or by kind, 5 not allowed, 6 the server can't be reached.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			root.SuggestionsMinimumDistance = 1 + min(len(args[0])/5, 1) // a short word allows one typing error more
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
		{"Keep going", []*cobra.Command{a.check(), a.repair(), a.newApp(), a.demo()}},
	} {
		root.AddGroup(&cobra.Group{ID: group.title, Title: group.title + ":"})
		for _, cmd := range group.commands {
			cmd.GroupID = group.title
			root.AddCommand(cmd)
		}
	}
	root.SetHelpCommandGroupID("Keep going")
	root.SetCompletionCommandGroupID("Keep going")
	cli.Help(root)
	a.completes(root)
	return root
}

// version returns the version, commit and Go version of the program.
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

// out is where results are printed.
func (a *app) out() term.Out { return term.Out{Writer: a.stdout} }

// printJSON prints one object on one line.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.stdout)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// withJSON adds the flag --json to a command.
func (a *app) withJSON(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.json, "json", false, "print JSON")
	return cmd
}

// withForce adds the flag --force to a command that changes values.
func (a *app) withForce(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().BoolVar(&a.force, "force", false, "go past what an app has declared: kind, range, choices, length")
	return cmd
}

// exactly accepts n arguments.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		return fmt.Errorf("%s needs %s, not %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

// atMost accepts n arguments or fewer.
func atMost(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) <= n {
			return nil
		}
		return fmt.Errorf("%s accepts at most %s, not %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

// atLeast accepts n arguments or more.
func atLeast(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) >= n {
			return nil
		}
		return fmt.Errorf("%s needs at least %s, not %d: %s", cmd.Name(), term.Counted(n, "argument", "arguments"), len(args), cmd.UseLine())
	}
}

var negative = regexp.MustCompile(`^-[0-9.]`)

// reorder puts the flags before "--" and the arguments after it, so that a negative number is not
// taken for a flag.
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

// takesValue reports whether the argument after the flag arg is its value.
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
