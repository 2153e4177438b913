package server

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/small-pantry/pantry/internal/access"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/mark"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/wire"
)

// phoneRate is the number of requests a minute of a phone that polls at its fastest.
const phoneRate = 30

// listBoards answers with the boards. It loads none of them.
func (c *call) listBoards() error {
	if _, err := c.query(); err != nil {
		return err
	}
	if err := c.takeTurn(); err != nil {
		return err
	}
	infos, err := c.s.store.Boards(c.r.Context(), "", 0)
	if err != nil {
		return err
	}
	boards := make([]wire.Summary, len(infos))
	for i, info := range infos {
		boards[i] = wire.Summary(info)
	}
	return c.answer(http.StatusOK, wire.AppendSummaries(nil, boards))
}

// makeBoard creates a board if there is none of that name.
func (c *call) makeBoard() error {
	if _, err := c.query(); err != nil {
		return err
	}
	raw, err := c.body()
	if err != nil {
		return err
	}
	if c.board, err = wire.ReadBoardName(raw); err == nil {
		err = journal.CheckName(c.board)
	}
	if err != nil {
		return err
	}
	l, release, made, err := c.s.ensureBoard(c.r.Context(), c.board)
	if err != nil {
		return err
	}
	defer release()
	return c.answer(created(made), c.factsOf(l).AppendJSON(nil))
}

// ensureBoard returns a board and creates it if there is none; made reports that. It has no tokens of an
// earlier board.
func (s *Server) ensureBoard(ctx context.Context, board string) (l *ledger.Ledger, release func(), made bool, err error) {
	for {
		l, release, made, err = s.store.Make(ctx, board)
		if err != nil || made || s.shared == nil {
			return l, release, made, err
		}
		if err = l.Current(ctx); err == nil { // another server can have removed the one that is open here
			return l, release, false, nil
		}
		release()
		if !errors.Is(err, ledger.ErrClosed) {
			return nil, nil, false, err
		}
		select { // it was removed, and is about to be closed here
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			return nil, nil, false, ctx.Err()
		}
	}
}

// removeBoard removes a board with everything in it.
func (c *call) removeBoard() error {
	if _, err := c.query(); err != nil {
		return err
	}
	l, err := c.ledger(false)
	var life string // an admin can also remove a board that can't be opened
	if err == nil && l != nil {
		life = l.Life()
	}
	if err == nil || c.holder == nil {
		err = c.s.store.Remove(c.r.Context(), c.board, life)
	}
	if errors.Is(err, store.ErrNoBoard) {
		return c.noBoard()
	}
	if err != nil {
		return err
	}
	if life != "" && !c.s.dev {
		if err := c.s.tokens.Drop(access.Board{Name: c.board, Life: life}); err != nil {
			c.s.log.Warn("the tokens of a removed board stay, but they open nothing", "board", c.board, "error", err)
		}
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

// facts answers with the facts of a board.
func (c *call) facts() error {
	if _, err := c.query(); err != nil {
		return err
	}
	l, err := c.present()
	if err != nil {
		return err
	}
	return c.answer(http.StatusOK, c.factsOf(l).AppendJSON(nil))
}

// factsOf returns the facts of a board; nil means that it does not exist.
func (c *call) factsOf(l *ledger.Ledger) *wire.Facts {
	f := &wire.Facts{
		Board: c.board, Mark: rules.NoBoard.String(),
		May: c.grant.May.String(), Admin: c.grant.May == access.Admin, Label: c.grant.Label, Prefix: c.grant.Prefix,
		MaxNames: int64(c.s.limits.Names), MaxBytes: c.s.limits.Bytes, MaxValue: ledger.MaxValue, MaxWatchers: int64(c.s.limits.Streams),
		MaxRate: int64(c.s.limits.BoardRate), Requests: c.s.rates.of(c.board, time.Now()),
	}
	if c.s.shared != nil {
		f.Servers = int64(c.s.shared.Servers())
	}
	f.Room = max(0, (60*f.MaxRate-f.Requests)/phoneRate)
	if l == nil {
		return f
	}
	snap := l.Snapshot()
	defer snap.Release()
	names, bytes := l.Count()
	f.Version, f.Mark, f.Exists = snap.Version, mark.Of(snap.Commit()).String(), true
	f.Near = max(float64(names)/float64(f.MaxNames), float64(bytes)/float64(f.MaxBytes), float64(f.Requests)/float64(60*f.MaxRate), float64(l.Watchers())/float64(f.MaxWatchers))
	f.Entries, f.Bytes, f.Keys, f.Closed, f.Watchers = int64(names), bytes, int64(l.CountKeys()), l.KeysClosed(), int64(l.Watchers())
	return f
}

// rates counts the requests of the last minute for each board.
type rates struct {
	mu     sync.Mutex // guards boards
	boards map[string]*recent
}

// A recent has the number of requests in each second of the last minute.
type recent struct {
	counts [60]int64
	newest int64 // the second that was counted last
}

// maxRates is the number of boards whose requests are counted; quiet boards are dropped first.
const maxRates = 1000

func (r *rates) count(board string, now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.boards[board]
	if one == nil {
		if len(r.boards) >= maxRates {
			for name, old := range r.boards {
				if old.sum(now.Unix()) == 0 {
					delete(r.boards, name)
				}
			}
		}
		if len(r.boards) >= maxRates {
			return
		}
		if r.boards == nil {
			r.boards = map[string]*recent{}
		}
		one = &recent{}
		r.boards[board] = one
	}
	one.sum(now.Unix())
	one.counts[now.Unix()%60]++
}

// of returns the number of requests in the last minute.
func (r *rates) of(board string, now time.Time) int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if one := r.boards[board]; one != nil {
		return one.sum(now.Unix())
	}
	return 0
}

// sum moves to a second and returns the count of the minute before it.
func (r *recent) sum(second int64) (sum int64) {
	for ; r.newest < second; r.newest = max(r.newest+1, second-60) {
		r.counts[(r.newest+1)%60] = 0
	}
	for _, n := range r.counts {
		sum += n
	}
	return sum
}
