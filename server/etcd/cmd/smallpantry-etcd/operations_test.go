package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

// A shower is a client that shows the litres of the tank: what it shows now.
type shower func() string

// showsVar is a client in Go.
func showsVar(v board.Var[int]) shower {
	return func() string { return fmt.Sprint(v.Get()) }
}

// showsLines is a client that prints the litres after each change: a command in any language.
func showsLines(t *testing.T, cmd *exec.Cmd) shower {
	t.Helper()
	var last atomic.Value
	last.Store("nothing")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	require.NoError(t, cmd.Start())
	var reads sync.WaitGroup
	litres := regexp.MustCompile(`\b\d+\b`)
	reads.Go(func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if n := litres.FindString(lines.Text()); n != "" {
				last.Store(n)
			}
		}
	})
	t.Cleanup(func() {
		assert.NoError(t, cmd.Process.Kill())
		reads.Wait()
		_ = cmd.Wait() // it was killed
		if t.Failed() {
			t.Logf("%s reports\n%s", cmd.Path, errs.String())
		}
	})
	return func() string { return last.Load().(string) }
}

// An asker polls the HTTP API with the mark of its newest answer, as docs/http.md describes it.
type asker struct {
	t          *testing.T
	url, token string
	mark       string
	whole      int // answers that replace everything
	litres     string
}

func (a *asker) shows() string {
	at := a.url
	if a.mark != "" {
		at += "?since=" + a.mark
	}
	rq, err := http.NewRequestWithContext(a.t.Context(), "GET", at, nil)
	require.NoError(a.t, err)
	rq.Header.Set("Authorization", "Bearer "+a.token)
	resp, err := http.DefaultClient.Do(rq)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	var page struct {
		Mark    string
		Whole   bool
		Entries []struct {
			Name  string
			Value json.RawMessage
		}
	}
	if err := json.NewDecoder(resp.Body).Decode(&page); err != nil || resp.StatusCode != http.StatusOK {
		return fmt.Sprint(resp.Status, err)
	}
	if a.mark = page.Mark; page.Whole {
		a.whole++
		a.litres = "nothing"
	}
	for _, e := range page.Entries {
		if e.Name == tankLitres.Name() {
			a.litres = string(e.Value)
		}
	}
	return a.litres
}

// An operator's commands on three machines, each with a node and a server, while clients are attached: status,
// backup, move, check --repair, and the restore of a backup that is older than what the clients have seen.
func TestOperations(t *testing.T) {
	t.Parallel()
	if !apart(t) {
		return
	}
	n := lay(t, 1, 2, 3)
	dir := t.TempDir()
	client, peer := n.host(1)+":3379", n.host(1)+":3380"
	east := n.on(1, command("node", "--name", "east", "--dir", filepath.Join(dir, "east"), "--client", client, "--peer", peer, "--member", "east="+peer, "--no-sync"))
	require.NoError(t, east.Start())
	t.Cleanup(func() {
		assert.NoError(t, east.Process.Kill())
		_ = east.Wait() // it was killed
	})
	c, err := cluster.Start(t.Context(), cluster.Options{
		Dir: dir, Command: command, NoSync: true, Nodes: 3, Servers: 3, Board: "rowan-street", Flags: []string{"--group", "east=" + client},
		NodeAt: n.at(1), ServerAt: n.at(1),
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	etcd := append(c.Flags(), "--group", "east="+client)
	operator := func(command string, args ...string) string {
		t.Helper()
		code, out, errs := call(append(append([]string{command}, args...), etcd...)...)
		require.Zero(t, code, "%s %v: %s%s", command, args, out, errs)
		return out
	}

	link := func(server int) string { return c.LinkAt(c.Addresses[server]) }
	pantry := filepath.Join(dir, "smallpantry")
	out, err := exec.CommandContext(t.Context(), "go", "build", "-C", "../../../..", "-o", pantry, "./cmd/smallpantry").CombinedOutput()
	require.NoError(t, err, "%s", out)
	at, token, _ := strings.Cut(link(0), "#")
	polled := &asker{t: t, url: strings.Replace(at, "/boards/", "/v1/boards/", 1) + "/entries", token: token}
	writer := join(t, link(0), "shed")
	all := map[string]shower{
		"a Go app that receives a stream": showsVar(join(t, link(1), "gatehouse")),
		"a Go app that polls":             showsVar(join(t, link(2), "tankwatch", board.WithoutPush(), board.Poll(50*time.Millisecond, time.Second))),
		"the command watch":               showsLines(t, exec.Command(pantry, "watch", link(2), "tank/litres")),
		"a program that polls over HTTP":  polled.shows,
	}
	if _, err := exec.LookPath("node"); err == nil || os.Getenv("CI") == "true" {
		js, err := filepath.Abs("../../../../js/small-pantry.js")
		require.NoError(t, err)
		all["a JavaScript app"] = showsLines(t, exec.Command("node", "--input-type=module", "-e", fmt.Sprintf(
			`import { join, int } from %q; join(%q).on(int('tank/litres', 0)).watch(s => console.log(s.value))`, "file://"+js, link(1))))
	}
	show := func(what, litres string) {
		t.Helper()
		for name, shows := range all {
			if !assert.Eventually(t, func() bool { return shows() == litres }, hang.Patience, 20*time.Millisecond) {
				require.FailNow(t, what, "%s shows %s and not %s", name, shows(), litres)
			}
		}
	}

	require.NoError(t, writer.Set(t.Context(), 400))
	show("before the backup", "400")
	require.Eventually(t, func() bool { // a new server registers first
		code, out, _ := call(append([]string{"status"}, etcd...)...)
		return code == 0 && strings.Count(out, "of 64 shards") == 3
	}, hang.Patience, 200*time.Millisecond)
	file := filepath.Join(dir, "pantry.jsonl")
	operator("backup", file)

	// The board moves to the other etcd while litres are added.
	over := make(chan struct{})
	var adders sync.WaitGroup
	added := 0
	adders.Go(func() {
		for {
			select {
			case <-over:
				return
			default:
				if _, err := board.Add(t.Context(), writer, 1); assert.NoError(t, err) {
					added++
				}
			}
		}
	})
	assert.Contains(t, operator("move", "rowan-street", "east"), "rowan-street is in the group east")
	close(over)
	adders.Wait()
	show("after the move", fmt.Sprint(400+added))
	operator("check", "--repair")

	// The restored backup is older than what every client has seen.
	for i := range c.Addresses {
		require.NoError(t, c.StopServer(i))
	}
	whole := polled.whole
	operator("restore", file, "--replace")
	for i := range c.Addresses {
		require.NoError(t, c.StartServer(t.Context(), i))
	}
	show("after the restore", "400")
	assert.Equal(t, whole+1, polled.whole, "one answer replaces everything")
	operator("check")
	litres, err := board.Add(t.Context(), writer, 5)
	require.NoError(t, err)
	assert.Equal(t, 405, litres)
	show("at the end", "405")
	t.Logf("%d litres were added while the board moved", added)
}
