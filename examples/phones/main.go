// Command phones is a watering day at Rowan Street: thirty phones, each a goroutine
// with a client of its own, take water, queue for the hose and weigh marrows, all at
// once, on one board. In the end the sums are right: nothing was lost, and nothing
// counted twice.
//
//	go run ./examples/phones                    # on a server of its own
//	go run ./examples/phones LINK               # on a board of yours, which it resets
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"sync"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/value"
)

const (
	phones  = 30
	cans    = 20 // that each phone fills
	perCan  = 10 // litres
	atFirst = 10_000
)

// The names that all phones agree upon.
var (
	tank     = pantry.Int("tank/litres", 0).Between(0, atFirst)
	queue    = pantry.List[string]("hose/queue")
	heaviest = pantry.Int("harvest/heaviest-marrow-g", 0)
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, os.Args[1:], os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "phones:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, args []string, out io.Writer) error {
	if len(args) > 0 {
		return waterDay(ctx, args[0], out)
	}
	data, err := os.MkdirTemp("", "rowan-street-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	s, err := server.New(server.Options{Data: data, Dev: true, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return errors.Join(err, s.Close())
	}
	serving, stop := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- s.Serve(serving, l) }()
	err = waterDay(ctx, "http://"+l.Addr().String()+"/boards/rowan-street", out)
	stop()
	return errors.Join(err, <-served, s.Close())
}

func waterDay(ctx context.Context, link string, out io.Writer) error {
	display, err := board.Join(link, board.ClientName("display"))
	if err != nil {
		return err
	}
	defer display.Close()
	findings, err := display.DeclareKeys(ctx, tank, queue, heaviest)
	if err != nil {
		return err
	}
	for _, f := range findings {
		fmt.Fprintf(out, "%s: %s\n", f.Name, f.Sentence)
	}
	if _, err := display.Commit(ctx, board.Op{Reset: true}, put(tank.Name(), value.Int(atFirst))); err != nil {
		return err
	}

	took := make([]string, phones) // the bed that left the queue at each phone
	failed := make([]error, phones)
	var all sync.WaitGroup
	for i := range phones {
		all.Go(func() { took[i], failed[i] = phone(ctx, link, i) })
	}
	all.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	return check(ctx, display, took, out)
}

// phone does what one gardener does, and returns the bed that he saw leave the queue.
func phone(ctx context.Context, link string, i int) (left string, err error) {
	b, err := board.Join(link, board.ClientName(fmt.Sprintf("phone %d", i+1)))
	if err != nil {
		return "", err
	}
	defer b.Close()
	for range cans {
		if _, err := board.Add(ctx, board.On(b, tank), -perCan); err != nil {
			return "", err
		}
	}
	bed := value.Text(fmt.Sprintf("C%d", i+1))
	join := value.Op{Verb: value.Append, Operand: bed, Unique: true}
	if _, err := b.Commit(ctx, board.Op{Name: queue.Name(), Op: join}); err != nil {
		return "", err
	}
	marrow := value.Op{Verb: value.Raise, Operand: value.Int(int64(1000 + i*37%phones))}
	leave := value.Op{Verb: value.Take}
	done, err := b.Commit(ctx, board.Op{Name: heaviest.Name(), Op: marrow}, board.Op{Name: queue.Name(), Op: leave})
	if err != nil {
		return "", err
	}
	left, _ = done.Results[1].Taken.AsText()
	return left, nil
}

// check compares what is there with what was done.
func check(ctx context.Context, b *board.Board, took []string, out io.Writer) error {
	var wrong []error
	is := func(what string, got, want any) {
		fmt.Fprintf(out, "%-34s %v\n", what, got)
		if fmt.Sprint(got) != fmt.Sprint(want) {
			wrong = append(wrong, fmt.Errorf("%s: %v, and it should be %v", what, got, want))
		}
	}
	litres, _, err := board.On(b, tank).Lookup(ctx)
	if err != nil {
		return err
	}
	is("litres left in the tank", litres, atFirst-phones*cans*perCan)
	waiting, _, err := board.On(b, queue).Lookup(ctx)
	if err != nil {
		return err
	}
	is("beds still waiting for the hose", len(waiting), 0)
	once := map[string]bool{}
	for _, bed := range took {
		once[bed] = bed != ""
	}
	is("beds that had the hose, each once", len(once), phones)
	grams, _, err := board.On(b, heaviest).Lookup(ctx)
	if err != nil {
		return err
	}
	is("heaviest marrow, in grams", grams, 1000+phones-1)
	return errors.Join(wrong...)
}

func put(name string, v value.Value) board.Op {
	return board.Op{Name: name, Op: value.Op{Verb: value.Put, Operand: v}}
}
