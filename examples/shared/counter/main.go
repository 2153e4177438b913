// Command counter counts barrows of compost on a shared board. Several phones count at once.
//
//	go run ./examples/shared/counter LINK    # then type numbers
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// Barrows is the shared counter.
var Barrows = pantry.Int("compost/barrows", 0).Between(0, 9999).About("barrows of compost this year")

func main() {
	dir, err := pantry.AppDir("counter")
	if err == nil {
		err = run(context.Background(), os.Args[1], dir, os.Stdin, os.Stdout)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, link, dir string, in io.Reader, out io.Writer) error {
	b, err := board.Join(link, board.ClientName("counter"), board.Declare(Barrows), board.Offline(dir))
	if err != nil {
		return err
	}
	defer b.Close()
	barrows := board.On(b, Barrows)
	go func() {
		for s := range barrows.Watch(ctx) {
			fmt.Fprintf(out, "%d barrows (%s)\n", s.Waiting, s.Phase)
		}
	}()
	for lines := bufio.NewScanner(in); lines.Scan(); {
		n, err := Barrows.Parse(lines.Text())
		if err == nil {
			_, err = board.Add(ctx, barrows, n)
		}
		if sentence, ok := pantry.Sentence(err); ok && !errors.Is(err, board.ErrQueued) {
			fmt.Fprintln(out, sentence)
		}
	}
	return nil
}
