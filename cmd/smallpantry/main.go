// Command smallpantry reads and changes namespaces on this device and boards of the shared store,
// and serves boards.
package main

import (
	"fmt"
	"io"
	"os"
)

func main() {
	os.Exit(run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// run runs the command, for main and for tests.
func run(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	out := &checkedWriter{Writer: stdout}
	a := &app{stdin: stdin, stdout: out, stderr: stderr}
	root := a.root()
	root.SetArgs(reorder(root, args))
	ctx, stop := interruptible()
	defer stop()
	err := root.ExecuteContext(ctx)
	if out.err != nil {
		a.running = true // the arguments were valid
		err = fmt.Errorf("write the output: %w", out.err)
	}
	return a.exit(err)
}

// A checkedWriter remembers the first error of writing, which printing ignores.
type checkedWriter struct {
	io.Writer
	err error
}

func (w *checkedWriter) Write(b []byte) (int, error) {
	if w.err != nil {
		return 0, w.err
	}
	n, err := w.Writer.Write(b)
	w.err = err
	return n, err
}

// Unwrap returns the writer, to ask whether it is a terminal.
func (w *checkedWriter) Unwrap() io.Writer { return w.Writer }
