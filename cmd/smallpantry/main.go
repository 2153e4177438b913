// Command smallpantry reads and changes namespaces on this device and boards of the shared store,
// and serves boards.
package main

import (
	"io"
	"os"
)

func main() {
	os.Exit(run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// run runs the command, for main and for tests.
func run(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	a := &app{stdin: stdin, stdout: stdout, stderr: stderr}
	root := a.root()
	root.SetArgs(reorder(root, args))
	ctx, stop := interruptible()
	defer stop()
	return a.exit(root.ExecuteContext(ctx))
}
