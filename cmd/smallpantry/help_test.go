package main

import (
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// commands calls f for a command and all below it.
func commands(cmd *cobra.Command, f func(*cobra.Command)) {
	f(cmd)
	for _, sub := range cmd.Commands() {
		commands(sub, f)
	}
}

// The help of each command begins with an example of it, and its flags are plain.
func TestHelp(t *testing.T) {
	t.Parallel()
	commands((&app{}).root(), func(cmd *cobra.Command) {
		if cmd.HasSubCommands() || !cmd.Runnable() || cmd.Name() == "help" || cmd.Parent().Name() == "completion" {
			return
		}
		var out strings.Builder
		require.Zero(t, run(append(strings.Fields(cmd.CommandPath())[1:], "--help"), nil, &out, &out), out.String())
		first, _, _ := strings.Cut(out.String(), "\n")
		assert.True(t, strings.HasPrefix(strings.TrimSpace(first), cmd.CommandPath()), "%s: %s", cmd.CommandPath(), first)
		assert.NotContains(t, out.String(), "true|false")
		assert.NotContains(t, out.String(), " string ", "%s: a flag's value has no name", cmd.CommandPath())
	})
}

// A shell completes names, kinds, rights and kept places.
func TestCompletion(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	call := func(args ...string) string {
		var out, problems strings.Builder
		assert.Zero(t, run(args, nil, &out, &problems), problems.String())
		return out.String()
	}
	garden := t.TempDir() + "/plotbook"
	call("put", garden, "reminder-hour", "7")
	call("put", garden, "plot", "C4")
	call("places", "keep", "plotbook", garden)
	for _, c := range []struct {
		args []string
		has  []string
	}{
		{[]string{"get", garden, ""}, []string{"plot", "reminder-hour"}},
		{[]string{"get", "@plotbook", ""}, []string{"plot", "reminder-hour"}},
		{[]string{"drop", garden, "plot", ""}, []string{"reminder-hour"}},
		{[]string{"get", ""}, []string{"@plotbook"}},
		{[]string{"put", garden, "x", "1", "--kind", ""}, []string{"int", "bytes", "map"}},
		{[]string{"board", "invite", garden, "--may", ""}, []string{"read", "own"}},
		{[]string{"new", ""}, []string{"go", "page", "kotlin"}},
	} {
		got := strings.Split(call(append([]string{"__complete"}, c.args...)...), "\n")
		assert.Subset(t, got, c.has, c.args)
	}
	assert.NotContains(t, call("__complete", "get", garden, "plot", ""), "reminder-hour", "get takes one name")
}
