package main

import "github.com/spf13/cobra"

func (a *app) lower() *cobra.Command {
	return a.keeping("lower", "Make a number smaller, if N is",
		"lower makes a number N where it is larger, in one step, and prints what is there\nthen. An absent entry becomes N.")
}
