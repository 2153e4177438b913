package etcd

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/journal"
)

// DefaultPrefix is the default beginning of all keys.
const DefaultPrefix = "sp/1/"

// format is the content of the key e, with the random id of the store.
const format = 1

// tokens is the name of the tokens, which no board can have.
const tokens = "!tokens"

// shards is the number of parts into which the boards are divided by their names. A server watches whole
// shards.
const shards = 64

// shardOf returns the shard of a board.
func shardOf(board string) int {
	h := fnv.New32a()
	_, _ = io.WriteString(h, board)
	return int(h.Sum32() % shards)
}

// A layout is where things are stored under a prefix.
type layout string

func (p layout) store() string                 { return string(p) + "e" }
func (p layout) admin() string                 { return string(p) + "a" }
func (p layout) groups() string                { return string(p) + "g/" }
func (p layout) group(board string) string     { return p.groups() + board }
func (p layout) tokens() string                { return string(p) + "t/" }
func (p layout) servers() string               { return string(p) + "s/" }
func (p layout) heads(shard int) string        { return p.shard('h', shard) }
func (p layout) head(board string) string      { return p.heads(shardOf(board)) + board }
func (p layout) shard(kind byte, n int) string { return fmt.Sprintf("%s%c/%02x/", string(p), kind, n) }

// of returns where a life of a board is stored.
func (p layout) of(board, life string) room {
	n := shardOf(board)
	return room{p.shard('l', n) + life + "/", p.shard('c', n) + life + "/", p.shard('p', n) + life + "/"}
}

// A room is where one life of a board is stored: the beginnings of its keys. Another life has another room.
type room struct{ batches, checkpoints, parts string }

// batch is the key of the batch whose first commit has a version.
func (r room) batch(first int64) string { return r.batches + number(first) }

// checkpoint is the beginning of the keys of a checkpoint. It has a random number, so that two servers that
// make one at the same time don't mix their parts.
func (r room) checkpoint(id string) string { return r.checkpoints + id + "/" }

// all are the beginnings of all keys in the room.
func (r room) all() []string { return []string{r.batches, r.checkpoints, r.parts} }

// backedUp returns the beginnings of the keys of each part of a backup: a shard, or what belongs to no board.
// Group records are left out, since the heads say in which groups the boards are.
func (p layout) backedUp() [][]string {
	parts := [][]string{{p.admin(), p.tokens()}}
	for n := range shards {
		parts = append(parts, []string{p.shard('h', n), p.shard('l', n), p.shard('c', n), p.shard('p', n)})
	}
	return parts
}

// boardOf returns the board whose head has a key.
func (p layout) boardOf(key string) (board string, ok bool) {
	rest, ok := strings.CutPrefix(key, string(p)+"h/")
	if !ok {
		return "", false
	}
	_, board, ok = strings.Cut(rest, "/")
	return board, ok
}

// lifeIn returns the life whose batch has a key, which is below the batches of all shards.
func (p layout) lifeIn(key string) (life string, ok bool) {
	rest, ok := strings.CutPrefix(key, string(p)+"l/")
	parts := strings.Split(rest, "/")
	if !ok || len(parts) != 3 {
		return "", false
	}
	return parts[1], true
}

func part(of string, n int) string { return fmt.Sprintf("%s%04x", of, n) }

// number formats a number so that the order of keys is that of numbers.
func number(n int64) string { return fmt.Sprintf("%016x", n) }

func draw() string { return number(int64(rand.Uint64() >> 1)) }

// A head is the content of h/SHARD/BOARD: the version of the board, and where it is stored. After the
// board's removal it says which life is gone.
type head struct {
	Life        string       `json:"life"`            // of the board, until its removal
	Gone        string       `json:"gone,omitempty"`  // the id of the removal, or of the move; empty: the board exists
	Moved       *string      `json:"moved,omitempty"` // to which group; nil: it was removed
	ID          string       `json:"id,omitempty"`    // its marks differ from those of any other board, and from before a restore
	Version     int64        `json:"version"`
	End         string       `json:"end,omitempty"`         // the crc of its newest commit
	First       int64        `json:"first,omitempty"`       // the version from which the batches are kept
	Size        int64        `json:"size,omitempty"`        // in bytes, of the newest checkpoint and the batches after it
	Checkpoints []checkpoint `json:"checkpoints,omitempty"` // newest first
}

// A checkpoint is a whole journal, as in a file, in parts.
type checkpoint struct {
	ID      string `json:"id"`
	Version int64  `json:"version"`
	Parts   int    `json:"parts"`
	Bytes   int64  `json:"bytes"`
	At      int64  `json:"at"` // when it was made, in milliseconds by the clock of its server
}

func (h head) value() string {
	raw, err := json.Marshal(h)
	if err != nil {
		panic(err) // it contains nothing that JSON can't express
	}
	return string(raw)
}

func readHead(key string, raw []byte) (h head, err error) {
	if err = json.Unmarshal(raw, &h); err == nil && (h.Life == "" || h.Gone == "" && (h.ID == "" || len(h.Checkpoints) == 0)) {
		err = fmt.Errorf("it names no checkpoint")
	}
	if err != nil {
		err = &journal.DamageError{Path: key, Line: 1, Reason: err.Error()}
	}
	return h, err
}

// A batch is the content of l/SHARD/LIFE/FIRST: the lines of one append.
type batch struct {
	id    string // of this append only; its parts are named by it
	first int64  // the version of its first commit
	count int    // the number of commits
	parts int    // the number of parts with its lines; 0 means that they are here
	at    int64  // when it was made, in milliseconds by the clock of its server
	lines []byte

	rev int64 // of the store, that wrote it
}

func (b batch) last() int64 { return b.first + int64(b.count) - 1 }

// newBatchID returns an id. The order of ids shows which parts are no longer needed.
func newBatchID(first int64) string { return number(first) + "." + draw()[:8] }

// value returns a line that describes the batch, and its lines.
func (b batch) value() []byte {
	out := make([]byte, 0, len(b.lines)+64)
	out = append(out, b.id...)
	out = append(strconv.AppendInt(append(out, ' '), int64(b.count), 10), ' ')
	out = append(strconv.AppendInt(out, int64(b.parts), 10), ' ')
	out = append(strconv.AppendInt(out, b.at, 10), '\n')
	if b.parts == 0 {
		out = append(out, b.lines...)
	}
	return out
}

func readBatch(key string, raw []byte) (b batch, err error) {
	says, lines, _ := bytes.Cut(raw, []byte("\n"))
	if fields := strings.Fields(string(says)); len(fields) == 4 && len(key) > 16 {
		var bad [4]error
		b.id, b.lines = fields[0], lines
		b.count, bad[0] = strconv.Atoi(fields[1])
		b.parts, bad[1] = strconv.Atoi(fields[2])
		b.at, bad[2] = strconv.ParseInt(fields[3], 10, 64)
		b.first, bad[3] = strconv.ParseInt(key[len(key)-16:], 16, 64)
		if errors.Join(bad[:]...) == nil && b.count > 0 && b.parts >= 0 {
			return b, nil
		}
	}
	return b, &journal.DamageError{Path: key, Line: 1, Reason: "it does not say what batch it is"}
}
