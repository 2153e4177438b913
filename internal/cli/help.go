// Package cli has what the commands share about their own help.
package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The help of a command begins with its examples.
const helpTemplate = `{{with .Example}}{{trimTrailingWhitespaces .}}

{{end}}{{with (or .Long .Short)}}{{trimTrailingWhitespaces .}}

{{end}}{{.UsageString}}`

const usageTemplate = `Usage:{{if .Runnable}}
  {{.UseLine}}{{end}}{{if .HasAvailableSubCommands}}
  {{.CommandPath}} COMMAND{{end}}{{if .HasAvailableSubCommands}}{{$cmds := .Commands}}{{if eq (len .Groups) 0}}

Commands:{{range $cmds}}{{if (or .IsAvailableCommand (eq .Name "help"))}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{else}}{{range $group := .Groups}}

{{.Title}}{{range $cmds}}{{if (and (eq .GroupID $group.ID) (or .IsAvailableCommand (eq .Name "help")))}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{end}}{{end}}{{end}}{{if .HasAvailableLocalFlags}}

Flags:
{{flagUsages .LocalFlags}}{{end}}{{if .HasAvailableInheritedFlags}}

Global flags:
{{flagUsages .InheritedFlags}}{{end}}{{if .HasAvailableSubCommands}}

"{{.CommandPath}} COMMAND --help" says more about a command.{{end}}
`

func init() { cobra.AddTemplateFunc("flagUsages", flagUsages) }

// Help makes the help of a command and of its subcommands begin with examples.
func Help(root *cobra.Command) {
	root.SetHelpTemplate(helpTemplate)
	root.SetUsageTemplate(usageTemplate)
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
