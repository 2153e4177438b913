// Command smallpantry reads and changes namespaces on this device and boards of the shared store,
// and serves boards.
package main

import (
	"io"
	"os"

	"github.com/small-pantry/pantry/internal/cli"
)

func main() {
	os.Exit(run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// run runs the command, for main and for tests.
func run(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	out := cli.NewOutput(stdout)
	a := &app{stdin: stdin, stdout: out, stderr: stderr}
	root := a.root()
	root.SetArgs(reorder(root, args))
	ctx, stop := interruptible()
	defer stop()
	err := root.ExecuteContext(ctx)
	if out.Err() != nil {
		a.running, err = true, out.Err() // the arguments were valid
	}
	return a.exit(err)
}
