package etcd

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/rules"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server"
)

// fill makes a board with a past, and says what is there.
func fill(s *site) (mark, token, entries, history string) {
	s.t.Helper()
	newBoard(s)
	for i := range 20 {
		s.do([]int{201, 200}[min(i, 1)], "PUT", tank, fmt.Sprint(100*i))
	}
	s.do(201, "PUT", street+"/entries/gate/open", "true")
	s.do(204, "DELETE", street+"/entries/gate/open", "")
	token = s.do(201, "POST", street+"/tokens", `{"may":"write","label":"tankwatch"}`).json["token"].(string)
	mark, entries, history = state(s)
	return mark, token, entries, history
}

func state(s *site) (mark, entries, history string) {
	list := s.do(200, "GET", street+"/entries", "")
	return list.json["mark"].(string), fmt.Sprint(list.json["entries"]), s.do(200, "GET", street+"/history", "").body
}

// stop stops servers, whose store stays.
func stop(all ...*site) {
	for _, s := range all {
		s.stop()
	}
}

// A backup holds all; after it is restored every mark of before is answered by the whole.
func TestBackup(t *testing.T) {
	t.Parallel()
	prefix := newPrefix()
	s := serve(t, 1, true, Options{Prefix: prefix, ledger: ledger.Options{Every: 7}})[0]
	mark, token, entries, history := fill(s)
	var file bytes.Buffer
	keys, err := s.store.Backup(t.Context(), &file)
	require.NoError(t, err)
	assert.Positive(t, keys)
	n, err := CheckBackup(bytes.NewReader(file.Bytes()))
	require.NoError(t, err)
	assert.Equal(t, keys, n)
	s.do(200, "PUT", tank, "1") // after it
	later := s.do(200, "GET", street+"/entries", "").json["mark"].(string)

	o := Options{Endpoints: endpoints, Prefix: prefix}
	restore := func(raw []byte, replace bool) error {
		_, err := Restore(t.Context(), o, bytes.NewReader(raw), replace)
		return err
	}
	assert.ErrorIs(t, restore(file.Bytes(), true), ErrServing)
	stop(s)
	assert.ErrorIs(t, restore(file.Bytes(), false), ErrNotEmpty)
	lines := bytes.SplitAfter(file.Bytes(), []byte("\n"))
	for what, bad := range map[string][]byte{
		"cut": bytes.Join(lines[:len(lines)-2], nil), "a line less": bytes.Join(append(append([][]byte{}, lines[:3]...), lines[4:]...), nil), "none": []byte("{}\n"), "empty": {},
	} {
		_, err := CheckBackup(bytes.NewReader(bad))
		assert.ErrorIs(t, err, ErrNoBackup, what)
	}
	assert.ErrorIs(t, restore(lines[0], true), ErrNoBackup)
	_, err = Open(t.Context(), o)
	assert.ErrorIs(t, err, ErrRestoring, "no server serves half of it")
	require.NoError(t, restore(file.Bytes(), true))

	s = serve(t, 1, false, Options{Prefix: prefix})[0]
	now, same, past := state(s)
	assert.Equal(t, []string{entries, history}, []string{same, past})
	assert.NotEqual(t, mark, now)
	assert.Equal(t, strings.Split(mark, ".")[0], strings.Split(now, ".")[0], "it is the same version")
	for _, m := range []string{mark, later} {
		list := s.do(200, "GET", street+"/entries?since="+m, "")
		assert.Equal(t, true, list.json["whole"], m)
	}
	assert.Equal(t, 200, s.as(token, "PUT", tank, "7").status)
	// Into another store, which is empty.
	o.Prefix = newPrefix()
	require.NoError(t, restore(file.Bytes(), false))
	other := serve(t, 1, false, Options{Prefix: o.Prefix})[0]
	_, same, _ = state(other)
	assert.Equal(t, entries, same)
}

// From files to etcd and back: no link changes, and followers continue where they were.
func TestMove(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(data, "admin-token"), []byte(adminToken+"\n"), 0o600))
	onFiles := func(data string) *site { return serveFiles(t, data) }
	s := onFiles(data)
	mark, token, entries, history := fill(s)
	key := []string{"Idempotency-Key", "k", "Client-Instance", "0123456789abcdef0123456789abcdef"}
	s.do(200, "POST", tank, `{"op":"add","amount":-10}`, key...)
	mark2, entries, history := state(s)
	prefix := newPrefix()
	o := Options{Prefix: prefix}
	target := open(t, prefix, o)
	said := func(Moved) {}
	assert.ErrorIs(t, target.Import(t.Context(), data, said), store.ErrInUse)
	stop(s)
	assert.Error(t, target.Import(t.Context(), t.TempDir(), said), "there is nothing")
	var moved []Moved
	require.NoError(t, target.Import(t.Context(), data, func(m Moved) { moved = append(moved, m) }))
	require.Len(t, moved, 1)
	assert.Equal(t, "rowan-street", moved[0].Board)
	assert.ErrorIs(t, target.Import(t.Context(), data, said), ErrNotEmpty)
	assert.ErrorIs(t, target.AdminHash(t.Context(), "admin.another-token-of-20-letters", false), ErrOtherAdmin)

	require.NoError(t, target.AdminHash(t.Context(), "admin.another-token-of-20-letters", true), "on purpose")
	assert.ErrorIs(t, target.AdminHash(t.Context(), adminToken, false), ErrOtherAdmin)
	require.NoError(t, target.AdminHash(t.Context(), adminToken, true))

	check := func(s *site) {
		t.Helper()
		now, same, past := state(s)
		assert.Equal(t, []string{mark2, entries, history}, []string{now, same, past})
		delta := s.do(200, "GET", street+"/entries?since="+mark, "").json
		assert.Equal(t, []any{false, mark}, []any{delta["whole"], delta["since"]})
		assert.Equal(t, "true", s.do(200, "POST", tank, `{"op":"add","amount":-10}`, key...).header.Get("Repeated"))
		assert.Equal(t, 200, s.as(token, "GET", tank, "").status)
	}
	two := serve(t, 2, true, o)
	check(two[0])
	check(two[1])
	assert.ErrorIs(t, target.Export(t.Context(), t.TempDir(), said), ErrServing)
	stop(two...)
	assert.ErrorIs(t, target.Export(t.Context(), data, said), ErrNotEmpty)
	back := t.TempDir()
	require.NoError(t, target.Export(t.Context(), back, said))
	require.NoError(t, os.WriteFile(filepath.Join(back, "admin-token"), []byte(adminToken+"\n"), 0o600))
	check(onFiles(back))
}

// serveFiles returns a server with files.
func serveFiles(t *testing.T, data string) *site {
	h, err := server.New(server.Options{Data: data, Log: quietLog, Limits: server.Limits{ClientRate: 100_000, AddressRate: 100_000}})
	require.NoError(t, err)
	s := &site{t: t, admin: adminToken}
	s.listenOn(h, h.Close)
	return s
}

func TestCheckFinds(t *testing.T) {
	t.Parallel()
	s := serve(t, 1, false, Options{ledger: ledger.Options{Every: 7}})[0]
	fill(s)
	bad := func() (out []string) {
		require.NoError(t, s.store.Check(t.Context(), func(c BoardCheck) {
			if c.Err != nil {
				out = append(out, c.Board)
			}
		}))
		return out
	}
	assert.Empty(t, bad())
	h, _, err := s.store.g.fence(t.Context(), "rowan-street")
	require.NoError(t, err)
	c, in := s.store.g.c, s.store.g.keys.of("rowan-street", h.Life)
	resp, err := c.Get(t.Context(), in.batches, append(prefixed(), clientv3.WithLimit(1), clientv3.WithSort(clientv3.SortByKey, clientv3.SortDescend))...)
	require.NoError(t, err)
	kv := resp.Kvs[0]
	for what, spoil := range map[string]func() error{
		"a batch is missing": func() error { _, err := c.Delete(t.Context(), string(kv.Key)); return err },
		"a byte is flipped": func() error {
			raw := bytes.Clone(kv.Value)
			raw[len(raw)/2] ^= 1
			_, err := c.Put(t.Context(), string(kv.Key), string(raw))
			return err
		},
		"it is no batch": func() error { _, err := c.Put(t.Context(), string(kv.Key), "x"); return err },
	} {
		require.NoError(t, spoil())
		assert.Equal(t, []string{"rowan-street"}, bad(), what)
	}
	_, err = c.Put(t.Context(), string(kv.Key), string(kv.Value))
	require.NoError(t, err)
	assert.Empty(t, bad())
	// A damaged board is refused by name, and the others go on.
	_, err = c.Put(t.Context(), string(kv.Key), "x")
	require.NoError(t, err)
	require.NoError(t, s.store.Shelf.Remove(t.Context(), "rowan-street", "", func() error { return nil }))
	a := s.as(s.admin, "GET", tank, "")
	assert.Equal(t, []any{503, "unavailable"}, []any{a.status, a.json["code"]})
	s.do(201, "POST", "/v1/boards", `{"board":"elm-street"}`)
}

// What an interrupted creation or removal left between two groups is found and repaired. Nothing that is in
// order is touched.
func TestStrays(t *testing.T) {
	t.Parallel()
	s := open(t, newPrefix(), Options{})
	for _, board := range []string{"rowan-street", "elm-street", "lost"} {
		l, release, err := s.Board(t.Context(), board, true)
		require.NoError(t, err)
		_, err = rules.Commit(l, rules.Call{Edits: add("n", 1)})
		require.NoError(t, err)
		release()
	}
	require.NoError(t, s.Remove(t.Context(), "elm-street", ""))
	_, err := s.Tokens(t.Context())
	require.NoError(t, err)
	strays := func() (all []string) {
		found, err := s.Strays(t.Context())
		require.NoError(t, err)
		for _, one := range found {
			all = append(all, fmt.Sprint(one.Board, " ", one.Head))
		}
		slices.Sort(all)
		return all
	}
	assert.Empty(t, strays())
	_, err = s.g.c.Delete(t.Context(), s.g.keys.group("lost"))
	require.NoError(t, err)
	_, err = s.g.c.Put(t.Context(), s.g.keys.group("never-made"), "")
	require.NoError(t, err)
	assert.Equal(t, []string{"lost true", "never-made false"}, strays())
	found, err := s.Strays(t.Context())
	require.NoError(t, err)
	boards := func() []store.Info {
		all, err := s.Boards(t.Context(), "", 2)
		require.NoError(t, err)
		return all
	}
	assert.Equal(t, []string{"rowan-street"}, namesOf(boards()))
	for _, one := range found {
		require.NoError(t, s.Mend(t.Context(), one))
	}
	assert.Empty(t, strays())
	assert.Equal(t, []string{"lost", "rowan-street"}, namesOf(boards()))
	for _, one := range found { // too late: both have changed
		require.NoError(t, s.Mend(t.Context(), one))
	}
	assert.Equal(t, []string{"lost", "rowan-street"}, namesOf(boards()))
}

// A server that runs stops using a store that a later program has changed.
func TestNewerFormat(t *testing.T) {
	t.Parallel()
	s := open(t, newPrefix(), Options{})
	l := hold(t, s)
	_, err := rules.Commit(l, rules.Call{Edits: add("n", 1)})
	require.NoError(t, err)
	require.NoError(t, s.g.put(t.Context(), s.g.keys.store(), fmt.Sprintf(`{"format":%d,"random":"x"}`, format+1)))
	require.Eventually(t, func() bool { return errors.Is(s.Ready(t.Context()), ErrNewer) }, hang.Patience, time.Millisecond)
	_, err = rules.Commit(l, rules.Call{Edits: add("n", 1)})
	assert.ErrorIs(t, err, ErrNewer)
	assert.ErrorIs(t, err, ledger.ErrNotStored)
	assert.ErrorIs(t, l.Current(t.Context()), ErrNewer)
	require.NoError(t, s.g.put(t.Context(), s.g.keys.store(), fmt.Sprintf(`{"format":%d,"random":"x"}`, format)))
}
