package main

import "github.com/spf13/cobra"

func (a *app) raise() *cobra.Command {
	return a.keeping("raise", "Make a number larger, if N is",
		"raise makes a number N where it is smaller, in one step, and prints what is there\nthen. An absent entry becomes N.")
}
