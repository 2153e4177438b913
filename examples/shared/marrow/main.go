// Command marrow keeps the table of the heaviest marrows: the best of each gardener, the ten best first.
//
//	go run ./examples/shared/marrow LINK    # then type NAME GRAMS
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"strings"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
)

// Best has the heaviest marrow of each gardener, in grams.
var Best = pantry.Family(pantry.Int("harvest/marrow-g", 0).Between(0, 60_000).About("the heaviest marrow of each gardener"))

func main() {
	dir, err := pantry.AppDir("marrow")
	if err == nil {
		err = run(context.Background(), os.Args[1], dir, os.Stdin, os.Stdout)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, link, dir string, in io.Reader, out io.Writer) error {
	b, err := board.Join(link, board.ClientName("marrow"), board.Declare(Best), board.Offline(dir))
	if err != nil {
		return err
	}
	defer b.Close()
	best := board.OnRecords(b, Best)
	go func() {
		for range best.Watch(ctx) {
			rank := 0
			for name, g := range best.Sorted(func(a, b int) int { return b - a }) {
				if rank++; rank <= 10 {
					fmt.Fprintf(out, "%2d. %s %d g\n", rank, name, g)
				}
			}
		}
	}()
	for lines := bufio.NewScanner(in); lines.Scan(); {
		name, typed, _ := strings.Cut(lines.Text(), " ")
		g, err := Best.At(name).Parse(typed)
		if err == nil {
			_, err = board.Raise(ctx, best.At(name), g)
		}
		if sentence, ok := pantry.Sentence(err); ok && !errors.Is(err, board.ErrQueued) {
			fmt.Fprintln(out, sentence)
		}
	}
	return nil
}
