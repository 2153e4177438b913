// Command notices shows the notices of the garden on a shared board, and which of them are new.
//
//	go run ./examples/shared/notices LINK NAME    # then type notices
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

// Notice is one notice. Notices is their collection.
type Notice struct{ Text, By string }

var Notices = pantry.RecordsOf[Notice]("notices").About("what gardeners tell each other")

func main() {
	dir, err := pantry.AppDir("notices")
	if err == nil {
		err = run(context.Background(), os.Args[1], dir, os.Args[2], os.Stdin, os.Stdout)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, link, dir, me string, in io.Reader, out io.Writer) error {
	b, err := board.Join(link, board.ClientName("notices"), board.Declare(Notices), board.Offline(dir))
	if err != nil {
		return err
	}
	defer b.Close()
	notices := board.OnRecords(b, Notices)
	go func() {
		for _, c := range notices.Changes(ctx) {
			switch {
			case c.First:
				fmt.Fprintf(out, "%s: %s\n", c.New.By, c.New.Text)
			case !c.Had:
				fmt.Fprintf(out, "new, from %s: %s\n", c.New.By, c.New.Text)
			}
		}
	}()
	for lines := bufio.NewScanner(in); lines.Scan(); {
		if _, err := notices.Add(ctx, Notice{lines.Text(), me}); errors.Is(err, board.ErrQueued) {
			fmt.Fprintln(out, "No connection: it will be sent later.")
		} else if err != nil {
			return err
		}
	}
	return nil
}
