package main

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/value"
)

// completionTime is how long the shell waits for the names of a place.
const completionTime = 2 * time.Second

// completes sets what a shell completes for a command and its subcommands: arguments by the words of Use,
// kinds, and rights.
func (a *app) completes(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		a.completes(sub)
	}
	if words := strings.Fields(cmd.Use); len(words) > 1 && cmd.ValidArgsFunction == nil {
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, typed string) ([]cobra.Completion, cobra.ShellCompDirective) {
			return a.complete(cmd.Context(), words[1:], args)
		}
	}
	for flag, values := range map[string][]string{"kind": kindNames(), "may": {"read", "add", "write", "own"}} {
		if cmd.Flags().Lookup(flag) != nil {
			_ = cmd.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
		}
	}
}

// complete returns what can be the argument after args: the words of Use say what it is.
func (a *app) complete(ctx context.Context, words, args []string) ([]cobra.Completion, cobra.ShellCompDirective) {
	word := strings.Trim(words[min(len(args), len(words)-1)], "[]")
	many := strings.HasSuffix(word, "...")
	if len(args) >= len(words) && !many {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	switch word = strings.TrimSuffix(word, "..."); {
	case strings.Contains(word, "|") && word != "|":
		return strings.Split(word, "|"), cobra.ShellCompDirectiveNoFileComp
	case strings.HasPrefix(word, "PLACE"):
		kept, err := keptPlaces()
		var names []cobra.Completion
		for name := range kept {
			names = append(names, "@"+name)
		}
		if err != nil {
			return nil, cobra.ShellCompDirectiveDefault
		}
		slices.Sort(names)
		return names, cobra.ShellCompDirectiveDefault // a directory too
	case word == "NAME" && len(args) > 0:
		where, err := resolve(args[0])
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(ctx, completionTime)
		defer cancel()
		quiet := &app{stdin: strings.NewReader(""), stdout: io.Discard, stderr: io.Discard, quiet: true}
		l, err := quiet.listed(ctx, where)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var names []cobra.Completion
		for _, e := range l.Entries {
			names = append(names, e.Name)
		}
		for _, k := range l.Declared {
			if !k.Family && !slices.Contains(names, k.Name) {
				names = append(names, k.Name)
			}
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveDefault
}

// kindNames are the kinds that a value can be stored as.
func kindNames() (names []string) {
	for k := value.KindBool; k <= value.KindMap; k++ {
		names = append(names, k.String())
	}
	return names
}
