package server_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/internal/test/soak"
	"github.com/small-pantry/pantry/server"
)

// An attack is one call of the API at its worst allowed size.
type attack struct {
	call    string // METHOD and path, as in openapi.json
	what    string
	path    string // with {board} for the board
	body    string
	kind    string // of the body
	admin   bool   // only the admin can make it
	streams bool   // it does not end
}

func many(n int, f func(i int) string, between string) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = f(i)
	}
	return strings.Join(parts, between)
}

// manyKeys declares keys, as the body of a request.
func manyKeys(from, n int) string {
	return `{"keys":[` + many(n, func(i int) string { return fmt.Sprintf(`{"name":"bed/%d/crop","kind":"text"}`, from+i) }, ",") + `]}`
}

// attacks has at least one row for each call of the API.
var attacks = sync.OnceValue(func() []attack {
	const at = "/v1/boards/{board}"
	names := many(300, func(i int) string { return fmt.Sprintf("name=a/name/that/is/rather/long/%d", i) }, "&")
	absent := many(300, func(i int) string { return fmt.Sprintf("name=bed/%d/crops", i) }, "&") // each nearly matches
	prefixes := many(100, func(i int) string { return fmt.Sprintf("prefix=bed/%d/", i) }, "&")
	ops, restored, kilobyte, megabyte := 1000, 8, strings.Repeat("x", 1000), strings.Repeat("y", 1<<20-100)
	if !soak.On() { // which measures, and needs the largest
		ops, restored, kilobyte, megabyte = 100, 2, kilobyte[:200], megabyte[:200<<10]
	}
	puts := `{"ops":[` + many(ops, func(i int) string { return fmt.Sprintf(`{"op":"put","name":"c/%d","value":"%s"}`, i, kilobyte) }, ",") + `]}`
	restores := `{"ops":[` + many(restored, func(i int) string { return fmt.Sprintf(`{"op":"restore","at":%d,"prefix":""}`, 10+i) }, ",") + `]}`
	appends := `{"ops":[` + many(ops, func(int) string {
		return `{"op":"append","name":"list","item":"` + kilobyte[:len(kilobyte)*9/10] + `","keep":2000}`
	}, ",") + `]}`
	keys := manyKeys(0, 1000)
	return []attack{
		{call: "GET " + at + "/entries", what: "everything", path: at + "/entries?limit=10000"},
		{call: "GET " + at + "/entries", what: "many names", path: at + "/entries?" + names},
		{call: "GET " + at + "/entries", what: "many near names", path: at + "/entries?" + absent},
		{call: "GET " + at + "/entries", what: "many prefixes", path: at + "/entries?" + prefixes},
		{call: "GET " + at + "/entries", what: "waiting", path: at + "/entries?wait=1&since=1.00000000&" + prefixes},
		{call: "GET " + at + "/entries", what: "the past", path: at + "/entries?at=20&limit=10000"},
		{call: "GET " + at + "/events", what: "everything", path: at + "/events", streams: true},
		{call: "GET " + at + "/events", what: "many prefixes", path: at + "/events?" + prefixes, streams: true},
		{call: "GET " + at + "/history", what: "all", path: at + "/history?limit=10000"},
		{call: "GET " + at + "/history", what: "one", path: at + "/history?limit=1&name=none"},
		{call: "GET " + at + "/entries/{name}", path: at + "/entries/large"},
		{call: "PUT " + at + "/entries/{name}", path: at + "/entries/large", body: megabyte, kind: "text/plain"},
		{call: "POST " + at + "/entries/{name}", path: at + "/entries/list", body: `{"op":"append","item":"` + megabyte[:len(megabyte)*9/10] + `","keep":1}`},
		{call: "DELETE " + at + "/entries/{name}", path: at + "/entries/bed/7/crop?forget=true"},
		{call: "POST " + at + "/commit", what: "puts", path: at + "/commit", body: puts},
		{call: "POST " + at + "/commit", what: "appends", path: at + "/commit", body: appends},
		{call: "POST " + at + "/commit", what: "restores", path: at + "/commit", body: restores},
		{call: "GET " + at + "/keys", path: at + "/keys"},
		{call: "POST " + at + "/keys", path: at + "/keys", body: keys},
		{call: "DELETE " + at + "/keys/{name}", path: at + "/keys/bed/3/crop"},
		{call: "GET " + at, path: at},
		{call: "GET " + at + "/tokens", path: at + "/tokens"},
		{call: "POST " + at + "/tokens", path: at + "/tokens", body: `{"may":"read","label":"many"}`},
		{call: "DELETE " + at + "/tokens", path: at + "/tokens?label=none"},
		{call: "DELETE " + at + "/tokens/{token}", path: at + "/tokens/none"},
		{call: "GET /v1/boards", path: "/v1/boards", admin: true},
		{call: "POST /v1/boards", path: "/v1/boards", body: `{"board":"bystander-new"}`, admin: true},
		{call: "DELETE " + at, path: "/v1/boards/bystander-new", admin: true},
		{call: "GET /metrics", path: "/metrics", admin: true},
		{call: "GET /openapi.json", path: "/openapi.json"},
		{call: "GET /healthz", path: "/healthz"},
		{call: "GET /readyz", path: "/readyz"},
		{call: "GET /boards/{board}", path: "/boards/{board}"},
		{call: "GET /small-pantry.js", path: "/small-pantry.js"},
		{call: "GET /small-pantry.d.ts", path: "/small-pantry.d.ts"},
		{call: "GET /small-pantry/{file}", path: "/small-pantry/page.js"},
		{call: "GET /", path: "/"},
	}
})

// Every call of the API has a row.
func TestEveryCallHasAnAttack(t *testing.T) {
	t.Parallel()
	have := map[string]bool{}
	for _, a := range attacks() {
		have[a.call] = true
	}
	for path, methods := range openAPI().Paths {
		for method := range methods {
			if method = strings.ToUpper(method); method != "HEAD" && method != "PARAMETERS" {
				assert.True(t, have[method+" "+path], "%s %s is in no row", method, path)
			}
		}
	}
}

// crowd is how many attackers there are at once. make race sets CROWD to fewer, as the race detector
// makes each step cost about ten times as much.
var crowd = func() int {
	if n, err := strconv.Atoi(os.Getenv("CROWD")); err == nil {
		return n
	}
	return 64
}()

// While one link, 64 links of one board, or links of 64 boards make a call, an ordinary phone on another
// board is refused nothing. Nothing that was held stays held. In make soak the server and the crowd are processes of
// their own, the phone's waits and the server's memory are asserted too, and the table is printed.
func TestBystander(t *testing.T) {
	var s *shared
	storm := storm
	var apart *apart
	if soak.On() {
		apart = serveApart(t)
		s, storm = apart.shared, stormApart(t)
	} else {
		t.Parallel()
		s = startShared(t, server.Options{})
	}
	s.make("phone")
	phone, _ := s.invite(s.admin, "phone", `{"may":"write","label":"phone"}`)
	boards := make([]string, crowd)
	links := make([]string, crowd) // one of each board
	for i := range boards {
		boards[i] = fmt.Sprintf("oak-%d", i)
		s.make(boards[i])
		links[i], _ = s.invite(s.admin, boards[i], `{"may":"own","label":"oak"}`)
		s.fill(links[i], boards[i], i == 0)
	}
	if soak.On() { // a board can have a thousand
		for range 800 {
			s.invite(s.admin, boards[0], `{"may":"read","label":"elm"}`)
		}
	}
	onOne := make([]string, crowd) // of the first board
	for i := range onOne {
		onOne[i], _ = s.invite(s.admin, boards[0], `{"may":"own","label":"oak"}`)
	}
	same := func(text string) []string { return slices.Repeat([]string{text}, crowd) }
	calm := s.bystand(phone, func() { time.Sleep(300 * time.Millisecond) }) // its own pace
	if soak.On() {
		t.Logf("alone: %v", calm)
		apart.restart(links, boards)
	}
	for n, a := range attacks() {
		if only := os.Getenv("ATTACK"); only != "" && a.call != only { // one row, while its call is changed
			continue
		}
		for _, mode := range []struct {
			what           string
			tokens, boards []string
		}{
			{"one link", same(links[0]), same(boards[0])},
			{"links of one board", onOne, same(boards[0])},
			{"links of as many boards", links, boards},
		} {
			if !soak.On() && mode.what == "links of one board" {
				continue
			}
			tokens := mode.tokens
			if a.admin {
				tokens = same(s.admin)
			}
			seen := s.bystand(phone, func() {
				for _, bad := range storm(s.base, n, tokens, mode.boards) {
					t.Error(bad)
				}
			})
			name := fmt.Sprintf("%s (%s), %s", a.call, a.what, mode.what)
			assert.Empty(t, seen.refused, "%s: the phone was refused", name)
			require.Eventually(t, func() bool { return s.held() == 0 }, hang.Patience, 10*time.Millisecond, "%s: %v is still held", name, s.held)
			if soak.On() {
				peak := apart.memory("VmHWM")
				apart.restart(links, boards)
				more := peak - apart.memory("VmRSS") // idle, with the same boards
				t.Logf("%-75s phone: %v, memory %+d MiB", name, seen, more>>20)
				assert.Less(t, seen.p99, 100*time.Millisecond, name)
				assert.Less(t, more, int64(256<<20), name)
			}
		}
	}
}

// fill stores many names, large values, keys and a past on a board.
func (s *shared) fill(token, board string, large bool) {
	at := "/v1/boards/" + board
	names, size := 100, 20<<10
	if large && soak.On() {
		names, size = 1000, 1<<20-100
	} else if large {
		names, size = 1000, 100<<10
	}
	puts := many(names, func(i int) string { return fmt.Sprintf(`{"op":"put","name":"bed/%d/crop","value":"peas"}`, i) }, ",")
	require.Equal(s.t, 200, s.as(token, "POST", at+"/commit", `{"ops":[`+puts+`]}`, "Content-Type", typeJSON).status)
	for i := range 2 * names / 1000 { // a board can have 2,000
		require.Equal(s.t, 200, s.as(token, "POST", at+"/keys", manyKeys(1000*i, 1000), "Content-Type", typeJSON).status)
	}
	require.Equal(s.t, 201, s.as(token, "PUT", at+"/entries/large", strings.Repeat("y", size)).status)
	for i := range 30 {
		require.Less(s.t, s.as(token, "POST", at+"/commit", fmt.Sprintf(`{"ops":[{"op":"put","name":"past","value":"%s%d"}]}`, strings.Repeat("p", size/8), i), "Content-Type", typeJSON).status, 300)
	}
}

// A bystander is what an ordinary phone has seen.
type bystander struct {
	calls    int
	refused  []string
	p50, p99 time.Duration
}

func (b bystander) String() string {
	return fmt.Sprintf("%d calls, p50 %v, p99 %v", b.calls, b.p50.Round(100*time.Microsecond), b.p99.Round(100*time.Microsecond))
}

// bystand adds, puts and reads on the phone's board while f runs.
func (s *shared) bystand(token string, f func()) (seen bystander) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		f()
	}()
	var waits []time.Duration
	client := &http.Client{Transport: &http.Transport{}}
	defer client.CloseIdleConnections()
	calls := []struct{ method, path, body string }{
		{"POST", "/entries/tank/litres", `{"op":"add","amount":1}`}, {"GET", "/entries/tank/litres", ""}, {"PUT", "/entries/gate/open", "true"}, {"GET", "/entries?prefix=tank/", ""},
	}
	for i := 0; ; i++ {
		select {
		case <-done:
			slices.Sort(waits)
			seen.calls, seen.p50, seen.p99 = len(waits), waits[len(waits)/2], waits[len(waits)*99/100]
			return seen
		default:
		}
		c := calls[i%len(calls)]
		req, err := http.NewRequestWithContext(s.t.Context(), c.method, s.base+"/v1/boards/phone"+c.path, strings.NewReader(c.body))
		require.NoError(s.t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Client-Instance", fmt.Sprintf("phone-%d", i%50)) // an ordinary phone makes few calls a second
		req.Header.Set("Content-Type", typeJSON)
		begun := time.Now()
		resp, err := client.Do(req)
		if err != nil {
			seen.refused = append(seen.refused, err.Error())
			continue
		}
		raw, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		waits = append(waits, time.Since(begun))
		if resp.StatusCode >= 300 {
			seen.refused = append(seen.refused, fmt.Sprintf("%s %s: %d %s", c.method, c.path, resp.StatusCode, raw))
		}
		time.Sleep(5 * time.Millisecond) // a phone's pace
	}
}

var heldBytes = regexp.MustCompile(`(?m)^smallpantry_held_bytes\{[^}]*\} (\S+)$|^smallpantry_streams (\S+)$`)

// held returns the bytes and streams that requests hold.
func (s *shared) held() (sum float64) {
	for _, m := range heldBytes.FindAllStringSubmatch(s.as(s.admin, "GET", "/metrics", "").body, -1) {
		n, err := strconv.ParseFloat(m[1]+m[2], 64)
		require.NoError(s.t, err)
		sum += n
	}
	return sum
}
