package server_test

import (
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/simdisk"
	"github.com/small-pantry/pantry/server"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A token that may add starts entries that are declared, or that are within its prefix, and no others. A
// refused op refuses its whole commit, and the problem says which it was.
func TestAdding(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	add, _ := s.invite(s.admin, "b", `{"may":"add","label":"tankwatch"}`)
	tank, _ := s.invite(s.admin, "b", `{"may":"add","prefix":"tank/"}`)
	one := func(name string) string { return `{"op":"add","amount":1,"name":"` + name + `"}` }
	a := s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`]}`)
	assert.Equal(t, []any{403, "forbidden", json.Number("0")}, []any{a.status, a.code(), a.json["op"]}, a.body)
	assert.Equal(t, 201, s.as(tank, "POST", b+"/entries/tank/new", `{"op":"add","amount":1}`).status, "within its prefix")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"beds","family":true,"kind":"int","default":0}]}`)
	assert.Equal(t, 200, s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`]}`).status, "declared as one of a family")
	a = s.as(add, "POST", b+"/commit", `{"ops":[`+one("beds/C4")+`,`+one("tank/new")+`,`+one("not/declared")+`]}`)
	assert.Equal(t, []any{403, json.Number("2")}, []any{a.status, a.json["op"]})
	a = s.as(add, "POST", b+"/commit", `{"ops":[{"op":"put","name":"tank/new","value":9,"if":99},`+one("beds/C4")+`]}`)
	assert.Equal(t, []any{403, json.Number("0")}, []any{a.status, a.json["op"]}, "authorised before a condition is looked at")
	a = s.as(s.admin, "GET", b+"/entries", "")
	assert.Equal(t, json.Number("3"), a.json["version"], "nothing else was done")
	e := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, "Client-Name", "shed").json
	assert.Equal(t, "tankwatch (shed)", e["by"])
	e = s.as(tank, "POST", b+"/entries/tank/new", `{"op":"add","amount":1}`).json
	assert.Regexp(t, `^[a-z2-7]{8}$`, e["by"], "without a label the token's id")

	// A repeat under its key counts once, and only for its own token.
	key := []string{"Idempotency-Key", "k1", "Client-Instance", "phone"}
	first := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	again := s.as(add, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	assert.Equal(t, []any{first.json["value"], "true"}, []any{again.json["value"], again.header.Get("Repeated")})
	other := s.as(s.admin, "POST", b+"/entries/beds/C4", `{"op":"add","amount":1}`, key...)
	assert.Equal(t, []any{200, ""}, []any{other.status, other.header.Get("Repeated")})
	assert.NotEqual(t, first.json["value"], other.json["value"])
}

// A token with a prefix sees nothing else, in the answers of every call.
func TestPrefix(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "1")
	s.as(s.admin, "POST", b+"/commit", `{"ops":[{"op":"put","name":"hidden/name","value":"hidden"},{"op":"put","name":"tank/litres","value":2}]}`)
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"hidden/key","kind":"int","default":0},{"name":"tank/litre","kind":"int","default":0},{"name":"hidden/colou","kind":"text","default":""}]}`)
	own, _ := s.invite(s.admin, "b", `{"may":"own","prefix":"tank/","label":"hidden-from-none"}`)
	s.invite(s.admin, "b", `{"may":"read","label":"hidden-token"}`)
	s.as(s.admin, "DELETE", b+"/entries/hidden/name", "")
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden")
	for _, path := range []string{"/entries", "/entries?at=3", "/history", "/keys", "", "/tokens", "/entries?names=true", "/entries?wait=0.01&since=" + s.as(own, "GET", b, "").json["mark"].(string)} {
		a := s.as(own, "GET", b+path, "")
		assert.Equal(t, 200, a.status, a.body)
		assert.NotContains(t, strings.ReplaceAll(a.body, "hidden-from-none", ""), "hidden", path)
	}
	facts := s.as(own, "GET", b, "").json
	for _, count := range []string{"entries", "bytes", "keys", "watchers", "near"} {
		assert.NotContains(t, facts, count)
	}
	assert.Equal(t, []any{"own", "tank/"}, []any{facts["may"], facts["prefix"]})
	mine, all := s.as(own, "GET", b+"/entries", ""), s.as(s.admin, "GET", b+"/entries", "")
	assert.NotEqual(t, mine.header.Get("ETag"), all.header.Get("ETag"))
	assert.Equal(t, 200, s.as(own, "GET", b+"/entries", "", "If-None-Match", all.header.Get("ETag")).status, "another's list is not mine")
	assert.Equal(t, 304, s.as(own, "GET", b+"/entries", "", "If-None-Match", mine.header.Get("ETag")).status)
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden again")
	assert.Equal(t, 304, s.as(own, "GET", b+"/entries", "", "If-None-Match", mine.header.Get("ETag")).status, "what he can't see is no news")
	a := s.as(own, "POST", b+"/keys", `{"keys":[{"name":"tank/hidden/colour","kind":"text","default":""},{"name":"tank/litres","kind":"int","default":0}]}`)
	assert.NotContains(t, strings.NewReplacer("tank/hidden", "", "hidden-from-none", "").Replace(a.body), "hidden", "findings")
	assert.Contains(t, a.body, "nearly matches")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tonk/depth","kind":"int","default":0}]}`)
	a = s.as(own, "POST", b+"/keys", `{"keys":[{"name":"tank/depth","kind":"int","default":0}]}`)
	assert.NotContains(t, a.body, "tonk", "a finding names no name outside")
	assert.Contains(t, s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tinker/depth","kind":"int","default":0},{"name":"tonk/depht","kind":"int","default":0}]}`).body, "tonk/depth", "others are told")
	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tamk/level","kind":"int","default":0}],"closed":true}`)
	a = s.as(own, "PUT", b+"/entries/tank/level", "1")
	assert.Equal(t, "undeclared", a.code())
	assert.NotContains(t, a.body, "tamk")

	s.as(s.admin, "POST", b+"/keys", `{"keys":[{"name":"tank/wells","family":true,"kind":"int","default":0}]}`)
	well, _ := s.invite(s.admin, "b", `{"may":"read","prefix":"tank/wells/old/"}`)
	keys := s.as(well, "GET", b+"/keys", "").json["keys"].([]any)
	require.Len(t, keys, 1, "a family is about the names in it")
	assert.Equal(t, "tank/wells", keys[0].(map[string]any)["name"])

	events := s.stream(own, b+"/events")
	assert.NotContains(t, events.next(), "hidden")
	s.as(s.admin, "PUT", b+"/entries/hidden/name", "hidden once more")
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "3")
	news := events.next()
	assert.NotContains(t, news, "hidden")
	assert.Contains(t, news, `"value":3`)
}

// Revoking a token ends new requests at once, and open ones within a second. So does its expiry.
func TestRevoking(t *testing.T) {
	t.Parallel()
	s := startShared(t, server.Options{})
	s.make("b")
	const b = "/v1/boards/b"
	s.as(s.admin, "PUT", b+"/entries/tank/litres", "1")
	owner, ownerID := s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
	for how, revoke := range map[string]func(id string) answer{
		"by id":    func(id string) answer { return s.as(owner, "DELETE", b+"/tokens/"+id, "") },
		"by label": func(string) answer { return s.as(owner, "DELETE", b+"/tokens?label=shed", "") },
		"with its board": func(string) answer {
			a := s.as(s.admin, "DELETE", b, "")
			s.make("b")
			return a
		},
	} {
		token, id := s.invite(s.admin, "b", `{"may":"read","label":"shed"}`)
		mark := s.as(token, "GET", b+"/entries", "").json["mark"].(string)
		stream := s.stream(token, b+"/events")
		stream.next()
		waited := make(chan answer, 1)
		go func() { waited <- s.as(token, "GET", b+"/entries?wait=30&since="+mark, "") }()
		require.Eventually(t, func() bool { return s.streams() == "2" }, hang.Patience, 5*time.Millisecond)
		assert.Equal(t, 204, revoke(id).status, how)
		from := time.Now()
		assert.Equal(t, 401, s.as(token, "GET", b+"/entries", "").status, how)
		a := <-waited
		assert.Equal(t, 401, a.status, how+": "+a.body)
		stream.ends()
		assert.Less(t, time.Since(from), 5*time.Second, "not when the wait would have been over") // a second, on a machine that does nothing else
		if how == "with its board" {
			owner, ownerID = s.invite(s.admin, "b", `{"may":"own","label":"gatehouse"}`)
		}
	}
	ends, _ := s.invite(s.admin, "b", `{"may":"read","until":"`+time.Now().Add(400*time.Millisecond).UTC().Format(time.RFC3339Nano)+`"}`)
	stream := s.stream(ends, b+"/events")
	stream.next()
	stream.ends()
	day := time.Now().Add(24 * time.Hour).UTC().Truncate(time.Second)
	guest, _ := s.invite(s.admin, "b", `{"may":"own","until":"`+day.Format(time.RFC3339)+`"}`)
	a0 := s.as(guest, "POST", b+"/tokens", `{"may":"read"}`)
	assert.Equal(t, day.Format(time.RFC3339), a0.json["until"], "what it makes ends with it")
	assert.Equal(t, 201, s.as(guest, "POST", b+"/tokens", `{"may":"read","until":"`+day.Add(-time.Hour).Format(time.RFC3339)+`"}`).status)
	assert.Equal(t, 403, s.as(guest, "POST", b+"/tokens", `{"may":"read","until":"`+day.Add(time.Hour).Format(time.RFC3339)+`"}`).status)
	assert.Equal(t, 401, s.as(ends, "GET", b, "").status, "its time is over")

	// What a token may make and take back.
	bound, _ := s.invite(owner, "b", `{"may":"own","prefix":"tank/"}`)
	a := s.as(bound, "DELETE", b+"/tokens/"+ownerID, "")
	assert.Equal(t, 404, a.status, "one outside its prefix, which it must not learn of")
	s.invite(owner, "b", `{"may":"read","label":"pair","prefix":"tank/"}`)
	s.invite(owner, "b", `{"may":"read","label":"pair"}`)
	s.invite(owner, "b", `{"may":"read","label":"outside"}`)
	assert.Len(t, s.as(bound, "GET", b+"/tokens", "").json["tokens"], 2, "itself, and the one within its prefix")
	assert.Equal(t, s.as(bound, "DELETE", b+"/tokens?label=absent", "").json["detail"], s.as(bound, "DELETE", b+"/tokens?label=outside", "").json["detail"])
	assert.Equal(t, 204, s.as(bound, "DELETE", b+"/tokens?label=pair", "").status, "the one within its prefix")
	assert.Len(t, s.as(bound, "GET", b+"/tokens", "").json["tokens"], 1)
	assert.Equal(t, 204, s.as(owner, "DELETE", b+"/tokens?label=pair", "").status)
	assert.Equal(t, 404, s.as(owner, "DELETE", b+"/tokens?label=pair", "").status)
	second, _ := s.invite(owner, "b", `{"may":"own"}`)
	assert.Equal(t, 204, s.as(second, "DELETE", b+"/tokens/"+ownerID, "").status, "two owners may revoke each other")
	assert.Equal(t, 401, s.as(owner, "POST", b+"/tokens", `{"may":"read"}`).status)
	for body, code := range map[string]string{
		`{"may":"all"}`: "invalid", `{}`: "invalid", `{"may":"read","labl":"x"}`: "invalid", `{"may":"read","may":"own"}`: "invalid", `[]`: "invalid",
		`{"may":"read","prefix":"tank"}`: "invalid", `{"may":"read","prefix":"/"}`: "invalid", `{"may":"read","label":"a\nb"}`: "invalid",
		`{"may":"read","label":"` + strings.Repeat("x", 65) + `"}`: "invalid", `{"may":"read","until":"2020-01-01T00:00:00Z"}`: "invalid", `{"may":"read","until":"soon"}`: "invalid", `{"may":"read","label":"admin"}`: "invalid",
	} {
		assert.Equal(t, code, s.as(s.admin, "POST", b+"/tokens", body).code(), body)
	}
	assert.Equal(t, "no-board", s.as(s.admin, "POST", "/v1/boards/nowhere/tokens", `{"may":"read"}`).code())
	assert.Equal(t, "invalid", s.as(s.admin, "DELETE", b+"/tokens", "").code())
	assert.Equal(t, "invalid", s.as(s.admin, "POST", b+"/tokens?qr=true", `{"may":"read"}`).code())

	// Over a restart all is as it was.
	reader, _ := s.invite(s.admin, "b", `{"may":"read"}`)
	s.stop()
	s = startShared(t, server.Options{Data: s.data})
	assert.Equal(t, 200, s.as(reader, "GET", b, "").status)
	assert.Equal(t, 401, s.as(owner, "GET", b, "").status)
}

// The owner's link is the same at each start, until it is revoked or the admin is another.
func TestOwnerLink(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	link := func(made bool) string {
		srv, err := server.New(server.Options{Data: data, Public: "https://pantry.example/", Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		defer srv.Close()
		assert.Equal(t, filepath.Join(data, "admin-token"), srv.AdminPath())
		l, new, err := srv.OwnerLink(t.Context(), "rowan-street")
		require.NoError(t, err)
		assert.Equal(t, made, new)
		return l
	}
	none, err := server.New(server.Options{Data: t.TempDir(), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	_, _, err = none.OwnerLink(t.Context(), "rowan-street")
	assert.ErrorIs(t, err, server.ErrPublic)
	require.NoError(t, none.Close())
	first := link(true)
	assert.Regexp(t, `^https://pantry\.example/boards/rowan-street#[a-z2-7]{8}\.[a-z2-7]{26}$`, first)
	assert.Equal(t, first, link(false))
	s := startShared(t, server.Options{Data: data})
	_, token, _ := strings.Cut(first, "#")
	assert.Equal(t, "own", s.as(token, "GET", "/v1/boards/rowan-street", "").json["may"])
	assert.Equal(t, 204, s.as(token, "DELETE", "/v1/boards/rowan-street/tokens/"+token[:8], "").status)
	s.stop()
	second := link(false)
	assert.NotEqual(t, first, second, "one that was revoked stays so")
	require.NoError(t, os.Remove(filepath.Join(data, "admin-token")))
	assert.NotEqual(t, second, link(false))
	s = startShared(t, server.Options{Data: data})
	_, token, _ = strings.Cut(second, "#")
	assert.Equal(t, 200, s.as(token, "GET", "/v1/boards/rowan-street", "").status, "an old admin's links stay, until they are revoked")
}

// The admin token that a server draws is there after a power cut: owners' links depend on it. The test
// replaces the disk of all tests, so none runs beside it.
func TestAdminTokenIsSynced(t *testing.T) {
	data := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(data, "boards"), 0o700)) // whose making syncs DATA too
	require.NoError(t, os.Mkdir(filepath.Join(data, "access"), 0o700))
	disk := &simdisk.DirRecorder{Disk: journal.OS}
	journal.OS = disk
	defer func() { journal.OS = disk.Disk }()
	for _, want := range []bool{true, false} { // where there is one it stays
		disk.Synced = nil
		srv, err := server.New(server.Options{Data: data, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		require.NoError(t, srv.Close())
		assert.Equal(t, want, slices.Contains(disk.Synced, data))
	}
}

// A request whose token is revoked while its body arrives is answered 401, also if it has other faults.
func TestRevokedWhileTheBodyArrives(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := sharedInMemory(t, server.Options{})
		s.make("b")
		token, id := s.invite(s.admin, "b", `{"may":"write"}`)
		const body = `{"ops":[{"op":"nonsense"}]}`
		conn := s.raw(token, "POST", "/v1/boards/b/commit", len(body), body[:10])
		synctest.Wait() // the server has authorised the request and waits for the rest
		require.Equal(t, 204, s.as(s.admin, "DELETE", "/v1/boards/b/tokens/"+id, "").status)
		_, err := conn.Write([]byte(body[10:]))
		require.NoError(t, err)
		code, header := status(t, conn)
		assert.Equal(t, 401, code)
		assert.NotEmpty(t, header.Get("WWW-Authenticate"))
		require.NoError(t, conn.Close())
	})
}
