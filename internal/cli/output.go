package cli

import (
	"fmt"
	"io"
	"sync"
)

// An Output is where a command prints. It keeps the first error of writing, which printing ignores. It is
// safe for concurrent use.
type Output struct {
	w   io.Writer
	mu  sync.Mutex
	err error
}

// NewOutput returns an Output that writes to w.
func NewOutput(w io.Writer) *Output { return &Output{w: w} }

// Write writes to the writer. After an error it writes nothing more.
func (o *Output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return 0, o.err
	}
	n, err := o.w.Write(b)
	if err != nil {
		o.err = fmt.Errorf("write the output: %w", err)
	}
	return n, o.err
}

// Err returns the first error of writing.
func (o *Output) Err() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.err
}

// Unwrap returns the writer, to ask whether it is a terminal.
func (o *Output) Unwrap() io.Writer { return o.w }
