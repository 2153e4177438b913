// Package cli has the help and the output of the commands.
package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"unicode"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Help makes the help of a command and of its subcommands begin with examples. It needs no templates, which
// take longer to parse: "start of the command" would be 5.2, and is 4.8.
func Help(root *cobra.Command) {
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		_, _ = io.WriteString(cmd.OutOrStdout(), help(cmd)) // an Output keeps the error
	})
	root.SetUsageFunc(func(cmd *cobra.Command) error {
		_, err := io.WriteString(cmd.OutOrStderr(), usage(cmd))
		return err
	})
}

func help(cmd *cobra.Command) string {
	var b strings.Builder
	for _, part := range []string{cmd.Example, cmp.Or(cmd.Long, cmd.Short)} {
		if part = strings.TrimRightFunc(part, unicode.IsSpace); part != "" {
			b.WriteString(part + "\n\n")
		}
	}
	return b.String() + usage(cmd)
}

func usage(cmd *cobra.Command) string {
	var b strings.Builder
	b.WriteString("Usage:")
	if cmd.Runnable() {
		b.WriteString("\n  " + cmd.UseLine())
	}
	if cmd.HasAvailableSubCommands() {
		b.WriteString("\n  " + cmd.CommandPath() + " COMMAND")
		if len(cmd.Groups()) == 0 {
			subcommands(&b, "Commands:", cmd, "")
		}
		for _, group := range cmd.Groups() {
			subcommands(&b, group.Title, cmd, group.ID)
		}
	}
	if cmd.HasAvailableLocalFlags() {
		b.WriteString("\n\nFlags:\n" + flagUsages(cmd.LocalFlags()))
	}
	if cmd.HasAvailableInheritedFlags() {
		b.WriteString("\n\nGlobal flags:\n" + flagUsages(cmd.InheritedFlags()))
	}
	if cmd.HasAvailableSubCommands() {
		fmt.Fprintf(&b, "\n\n\"%s COMMAND --help\" says more about a command.", cmd.CommandPath())
	}
	return b.String() + "\n"
}

// subcommands writes a line for each subcommand of a group.
func subcommands(b *strings.Builder, title string, cmd *cobra.Command, group string) {
	b.WriteString("\n\n" + title)
	for _, sub := range cmd.Commands() {
		if sub.GroupID == group && (sub.IsAvailableCommand() || sub.Name() == "help") {
			fmt.Fprintf(b, "\n  %-*s %s", sub.NamePadding(), sub.Name(), sub.Short)
		}
	}
}

// flagUsages returns a line for each flag, in two columns.
func flagUsages(set *pflag.FlagSet) string {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 3, ' ', 0)
	set.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		value, usage := pflag.UnquoteUsage(f)
		name := "    --" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", --" + f.Name
		}
		if value != "" && f.Value.Type() != "bool" {
			name += " " + value
		}
		switch f.DefValue {
		case "", "false", "0", "0s", "[]":
		default:
			usage += " (default " + strings.Trim(f.DefValue, "[]") + ")"
		}
		_, _ = fmt.Fprintf(w, "  %s\t%s\n", name, usage)
	})
	_ = w.Flush() // writing to memory can't fail
	return strings.TrimRight(b.String(), "\n")
}
