package board

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// An AddTo is what Board.Add adds, and its bounds; those that are no value are
// left out.
type AddTo struct {
	Amount value.Value
	Start  value.Value // what an absent entry starts from; none: zero
	Min    value.Value
	Max    value.Value
}

// Add adds to a number on the server, where each call is counted once, and
// gives the entry. A result outside the bounds is pantry.ErrInvalid and
// changes nothing.
func (b *Board) Add(ctx context.Context, name string, add AddTo) (Entry, error) {
	return b.operate(ctx, "add", name, map[string]any{"amount": add.Amount, "start": add.Start, "min": add.Min, "max": add.Max})
}

// Raise makes a number to where it is smaller, and gives the entry.
func (b *Board) Raise(ctx context.Context, name string, to value.Value) (Entry, error) {
	return b.operate(ctx, "raise", name, map[string]any{"to": to, "start": to})
}

// Lower makes a number to where it is larger, and gives the entry.
func (b *Board) Lower(ctx context.Context, name string, to value.Value) (Entry, error) {
	return b.operate(ctx, "lower", name, map[string]any{"to": to, "start": to})
}

// Append adds an item at the end of a list, and gives the entry. With keep over
// 0 only the newest keep items stay; with unique an item that is there already
// is left out.
func (b *Board) Append(ctx context.Context, name string, item value.Value, keep int, unique bool) (Entry, error) {
	op := map[string]any{"item": item}
	if keep > 0 {
		op["keep"] = keep
	}
	if unique {
		op["unique"] = true
	}
	return b.operate(ctx, "append", name, op)
}

// Remove takes every item that equals item out of a list, and gives the entry.
func (b *Board) Remove(ctx context.Context, name string, item value.Value) (Entry, error) {
	return b.operate(ctx, "remove", name, map[string]any{"item": item})
}

// operate sends an operation; members that are no value are left out.
func (b *Board) operate(ctx context.Context, op, name string, members map[string]any) (Entry, error) {
	body := map[string]any{"op": op}
	for member, v := range members {
		if val, is := v.(value.Value); !is || !val.IsZero() {
			body[member] = v
		}
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return Entry{}, b.fail(op, name, err)
	}
	rq := request{op: op, method: http.MethodPost, body: raw, header: http.Header{"Content-Type": {"application/json"}}}
	got, err := b.onEntry(ctx, rq, name)
	if err != nil {
		return Entry{}, err
	}
	return b.entryOf(got, op, name)
}

// An Op is one change of a Commit.
type Op struct {
	Op        string       `json:"op"`
	Name      string       `json:"name,omitempty"`
	Kind      string       `json:"kind,omitempty"`
	Value     *value.Value `json:"value,omitempty"`
	Prefix    *string      `json:"prefix,omitempty"`
	IfVersion *int64       `json:"if_version,omitempty"`
}

// PutNamed stores a value under a name, of whatever kind was there.
func PutNamed(name string, v value.Value) Op {
	return Op{Op: "put", Name: name, Kind: v.Kind().String(), Value: &v}
}

// DropNamed removes what is stored under a name; where nothing is, the Commit
// is ErrAbsent.
func DropNamed(name string) Op { return Op{Op: "drop", Name: name} }

// DropPrefix removes what is stored under the names that begin with prefix;
// an empty one means all.
func DropPrefix(prefix string) Op { return Op{Op: "reset", Prefix: &prefix} }

// If makes an Op conditional: the entry must be at a version, 0 meaning absent.
func (o Op) If(version int64) Op {
	o.IfVersion = &version
	return o
}

// MaxOps is how many ops one Commit has at most.
const MaxOps = 1000

// Commit makes all changes in one commit or, where one is refused, none, and
// gives the board's version then. The error is ErrInvalid for more than MaxOps.
func (b *Board) Commit(ctx context.Context, ops ...Op) (version int64, err error) {
	if len(ops) > MaxOps {
		return 0, b.fail("commit", "", fmt.Errorf("%w: it has %d ops, and %d is the most: make several commits", pantry.ErrInvalid, len(ops), MaxOps))
	}
	var names []string
	for _, op := range ops {
		if op.Name == "" {
			continue
		}
		names = append(names, op.Name)
		if err := ledger.CheckName(op.Name); err != nil {
			return 0, b.fail("commit", op.Name, err)
		}
	}
	raw, err := json.Marshal(map[string]any{"ops": ops})
	if err != nil {
		return 0, b.fail("commit", "", err)
	}
	got, err := b.send(ctx, request{op: "commit", method: http.MethodPost, path: "/commit", body: raw, header: http.Header{"Content-Type": {"application/json"}}})
	var answer struct {
		Version int64
		Entries []Entry
		Gone    []struct {
			Name    string
			Version int64
		}
	}
	if err == nil {
		err = decode(got.body, &answer)
	}
	if err != nil {
		const few = 3
		if more := len(names) - few; more > 1 {
			names = append(names[:few], fmt.Sprintf("%d more", more))
		}
		return 0, b.fail("commit", strings.Join(names, ", "), err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, g := range answer.Gone {
		answer.Entries = append(answer.Entries, Entry{Name: g.Name, Version: g.Version, From: b.instance})
	}
	for _, e := range answer.Entries {
		if b.nodes[e.Name] != nil {
			b.learnLocked(e, false)
		}
	}
	return answer.Version, nil
}

// Drop removes what is stored under the names, in one commit, and gives its
// version. Where nothing is stored under one of them, the error is ErrAbsent
// and nothing is removed.
func (b *Board) Drop(ctx context.Context, names ...string) (version int64, err error) {
	ops := make([]Op, len(names))
	for i, name := range names {
		ops[i] = DropNamed(name)
	}
	return b.Commit(ctx, ops...)
}

// A CommitInfo is a commit as the board still tells it.
type CommitInfo struct {
	Version int64
	Time    time.Time // by the server's clock
	By      string
	Changes []Change
}

// A Change is what a commit did to one entry. A value whose IsZero is true
// means that nothing was stored.
type Change struct {
	Name     string
	Old, New value.Value
}

// History asks the server for the newest commits that it keeps, newest first:
// at most limit of them (0: 1,000), and only what they did to the names, if any are
// given.
func (b *Board) History(ctx context.Context, limit int, names ...string) ([]CommitInfo, error) {
	query := url.Values{"name": names}
	if limit > 0 {
		query.Set("limit", strconv.Itoa(limit))
	}
	got, err := b.send(ctx, request{op: "history", method: http.MethodGet, path: "/history", query: query})
	var answer struct {
		Commits []struct {
			Version int64
			At      time.Time
			By      string
			Changes []struct {
				Name     string
				OldKind  value.Kind `json:"old_kind"`
				NewKind  value.Kind `json:"new_kind"`
				Old, New json.RawMessage
			}
		}
	}
	if err == nil {
		err = decode(got.body, &answer)
	}
	if err != nil {
		return nil, b.fail("read the history of", "", err)
	}
	read := func(k value.Kind, raw json.RawMessage) (v value.Value) {
		if k != value.KindNone && err == nil {
			v, err = value.Parse(k, raw)
		}
		return v
	}
	out := make([]CommitInfo, len(answer.Commits))
	for i, c := range answer.Commits {
		out[i] = CommitInfo{Version: c.Version, Time: c.At, By: c.By}
		for _, ch := range c.Changes {
			out[i].Changes = append(out[i].Changes, Change{ch.Name, read(ch.OldKind, ch.Old), read(ch.NewKind, ch.New)})
		}
	}
	return out, b.fail("read the history of", "", err)
}

// AllAt asks the server for the entries as they were at a version, by the byte
// order of their names. The error is ErrAbsent for a version that it does not keep.
func (b *Board) AllAt(ctx context.Context, version int64) ([]Entry, error) {
	page, err := b.list(ctx, "list", url.Values{"at": {strconv.FormatInt(version, 10)}}, "")
	return page.Entries, err
}
