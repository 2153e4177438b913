package server

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/rules"
)

// Limits bound what a server does. 0 is the default.
type Limits struct {
	Names   int   // entries of a board; default 10,000
	Bytes   int64 // of the names and values of a board, as JSON; default 32 MiB
	Boards  int   // default 1,000
	Streams int   // streams and waiting calls at the same time, on all boards; default 2,000
	// Requests a second, with bursts of twice as many. They don't apply in development mode.
	ClientRate  int // of one Client-Instance, or without one of its address; default 20
	AddressRate int // of one address; default 500
	BoardRate   int // on one board; default 2,000
	// WriteRate is the number of bytes a second that can be written to a board, as its values are
	// encoded. A commit passes while at most a second's worth is owed, and can raise what is owed.
	// Default 4 MiB. It does not apply in development mode.
	WriteRate int64
}

// DefaultLimits are the limits of a server without others.
var DefaultLimits = Limits{Names: rules.BoardLimits.Names, Bytes: rules.BoardLimits.Bytes, Boards: 1000, Streams: 2000, ClientRate: 20, AddressRate: 500, BoardRate: 2000, WriteRate: 4 << 20}

// Set sets a limit, such as names=500 or bytes=8MiB.
func (l *Limits) Set(s string) error {
	name, text, _ := strings.Cut(s, "=")
	n, err := readAmount(text)
	switch name {
	case "names":
		l.Names = int(n)
	case "bytes":
		l.Bytes = n
	case "boards":
		l.Boards = int(n)
	case "streams":
		l.Streams = int(n)
	case "client-rate":
		l.ClientRate = int(n)
	case "address-rate":
		l.AddressRate = int(n)
	case "board-rate":
		l.BoardRate = int(n)
	case "write-rate":
		l.WriteRate = n
	default:
		return fmt.Errorf("there is no limit %q; the limits are names, bytes, boards, streams, client-rate, address-rate, board-rate and write-rate, each such as names=500 or bytes=8MiB", name)
	}
	return err
}

// readAmount reads a number, which can end in KiB, MiB or GiB.
func readAmount(s string) (int64, error) {
	unit := int64(1)
	for suffix, bytes := range map[string]int64{"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30} {
		if short, is := strings.CutSuffix(s, suffix); is {
			s, unit = short, bytes
		}
	}
	n, err := strconv.ParseInt(s, 10, 32)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not a number from 1 on, such as 500 or 8MiB", s)
	}
	return n * unit, nil
}

// orDefault replaces zeros by the defaults.
func (l Limits) orDefault() Limits {
	return Limits{
		Names: cmp.Or(l.Names, DefaultLimits.Names), Bytes: cmp.Or(l.Bytes, DefaultLimits.Bytes),
		Boards: cmp.Or(l.Boards, DefaultLimits.Boards), Streams: cmp.Or(l.Streams, DefaultLimits.Streams),
		ClientRate: cmp.Or(l.ClientRate, DefaultLimits.ClientRate), AddressRate: cmp.Or(l.AddressRate, DefaultLimits.AddressRate),
		BoardRate: cmp.Or(l.BoardRate, DefaultLimits.BoardRate), WriteRate: cmp.Or(l.WriteRate, DefaultLimits.WriteRate),
	}
}

// board returns the limits of one board.
func (l Limits) board() rules.Limits {
	return rules.Limits{Names: l.Names, Bytes: l.Bytes, Work: rules.BoardLimits.Work}
}
