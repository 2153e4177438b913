package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/internal/test/console"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

// A site is the three machines of docs/machines.md, as three addresses of loopback.
type site struct {
	t      *testing.T
	dir    string
	page   string
	ports  map[string]string
	client *http.Client
	env    []string
}

// machine returns the address of machine i, from 1 to 3.
func machine(i int) string { return "127.0.0." + strconv.Itoa(i) }

// at replaces the page's addresses and directories by those of machine i in this test.
func (s *site) at(i int, text string) string {
	root := filepath.Join(s.dir, machine(i))
	for port, to := range s.ports {
		text = strings.ReplaceAll(text, ":"+port, ":"+to)
	}
	return strings.NewReplacer("10.0.0.", "127.0.0.", "/etc/pantry", root+"/etc", "/var/lib", root+"/var", "/backup", s.dir).Replace(text)
}

// block returns the page's only indented block that contains a text.
func (s *site) block(text string) string {
	s.t.Helper()
	var found []string
	for _, b := range regexp.MustCompile(`(?m)(?:^    .*\n|^\n)+`).FindAllString(s.page, -1) {
		if strings.Contains(b, text) {
			found = append(found, regexp.MustCompile(`(?m)^    `).ReplaceAllString(b, ""))
		}
	}
	require.Len(s.t, found, 1, text)
	return found[0]
}

// unit starts the command of a unit of systemd on machine i, and returns what stops it. The unit is written for the
// first machine: an argument that is an address of that machine is replaced by the address of this one.
func (s *site) unit(i int, begins, as string) (stop func()) {
	s.t.Helper()
	line := regexp.MustCompile(`ExecStart=((?:.*\\\n)*.*)`).FindStringSubmatch(s.block(begins))[1]
	args := strings.Fields(s.at(i, strings.ReplaceAll(line, "\\\n", " ")))[1:]
	own := regexp.MustCompile(`^((?:https://)?)` + regexp.QuoteMeta(machine(1)) + `(:\d+)$`)
	for at, arg := range args {
		args[at] = own.ReplaceAllString(arg, "${1}"+machine(i)+"${2}")
		if arg == "a" { // the node's name
			args[at] = string(rune('a' + i - 1))
		}
	}
	if as == "node" {
		args = append(args, "--unsafe-no-fsync") // so that the test doesn't depend on the disk
	}
	var out bytes.Buffer
	cmd := command(args...)
	cmd.Env = append(cmd.Env, "SMALLPANTRY_ETCD="+as)
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(s.t, cmd.Start())
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(hang.Patience):
			_ = cmd.Process.Kill()
			<-ended
		}
	}
	s.t.Cleanup(func() {
		stop()
		if s.t.Failed() {
			lines := strings.Split(out.String(), "\n")
			s.t.Logf("%s on machine %d prints last\n%s", begins, i, strings.Join(lines[max(0, len(lines)-8):], "\n"))
		}
	})
	return stop
}

// run runs commands of the page on the first machine.
func (s *site) run(commands string) string {
	s.t.Helper()
	cmd := exec.CommandContext(s.t.Context(), "sh", "-ec", s.at(1, commands))
	cmd.Dir, cmd.Env = s.dir, s.env
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s\nprints\n%s", commands, out)
	return string(out)
}

// call does a request of the API at machine i, and returns the status.
func (s *site) call(i int, method, path, body string) (status int) {
	s.t.Helper()
	token, err := os.ReadFile(s.at(1, "/var/lib/pantry/admin-token"))
	if err != nil { // the first server has not made it yet
		return 0
	}
	rq, err := http.NewRequestWithContext(s.t.Context(), method, s.at(i, "https://"+machine(i)+":8437"+path), strings.NewReader(body))
	require.NoError(s.t, err)
	rq.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	rq.Header.Set("Content-Type", "application/json")
	resp, err := s.client.Do(rq)
	if err != nil {
		return 0
	}
	defer resp.Body.Close()
	return resp.StatusCode
}

// tank joins the board through machine i.
func (s *site) tank(i int) board.Var[int] {
	s.t.Helper()
	token, err := os.ReadFile(s.at(1, "/var/lib/pantry/admin-token"))
	require.NoError(s.t, err)
	b, err := board.Join(s.at(i, "https://"+machine(i)+":8437/boards/rowan-street#"+strings.TrimSpace(string(token))), board.HTTPClient(s.client))
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = b.Close() })
	return board.On(b, tankLitres)
}

// docs/machines.md works as it is written: its certificates, its units and its commands.
func TestMachinesPage(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("openssl"); err != nil && os.Getenv("CI") != "true" {
		t.Skip("openssl is missing: make test installs it")
	}
	s := &site{t: t, dir: t.TempDir(), page: console.Page(t, "../../../../docs/machines.md"), ports: map[string]string{}}
	for _, port := range []string{"2379", "2380", "8437"} {
		free, err := node.FreeAddress()
		require.NoError(t, err)
		_, s.ports[port], _ = net.SplitHostPort(free)
	}
	bin := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(self, bin+"/smallpantry-etcd"))
	s.env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "SMALLPANTRY_ETCD=1")

	s.run(s.block("openssl req -x509"))
	for i := 1; i <= 3; i++ {
		require.NoError(t, os.MkdirAll(s.at(i, "/var/lib/pantry"), 0o700))
		require.NoError(t, os.MkdirAll(s.at(i, "/etc/pantry"), 0o700))
		for from, to := range map[string]string{"ca.pem": "ca.pem", machine(i) + ".pem": "cert.pem", machine(i) + "-key.pem": "key.pem"} {
			require.NoError(t, os.Link(filepath.Join(s.dir, from), s.at(i, "/etc/pantry/"+to)))
		}
	}
	ca, err := os.ReadFile(filepath.Join(s.dir, "ca.pem"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(ca))
	s.client = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	t.Cleanup(s.client.CloseIdleConnections)

	for i := 1; i <= 3; i++ {
		s.unit(i, "Description=etcd", "node")
	}
	stop := make([]func(), 4)
	serve := func(i int) {
		stop[i] = s.unit(i, "Description=Small Pantry", "1")
		require.Eventually(t, func() bool { return s.call(i, "GET", "/readyz", "") == http.StatusOK }, hang.Patience, 50*time.Millisecond)
	}
	serve(1) // which makes the admin token
	for i := 2; i <= 3; i++ {
		require.NoError(t, os.Link(s.at(1, "/var/lib/pantry/admin-token"), s.at(i, "/var/lib/pantry/admin-token")))
		serve(i)
	}
	require.Equal(t, http.StatusCreated, s.call(1, "POST", "/v1/boards", `{"board":"rowan-street"}`))
	ctx, cancel := context.WithTimeout(t.Context(), hang.Patience)
	defer cancel()
	require.NoError(t, s.tank(2).Set(ctx, 420))

	s.env = append(s.env, "ETCD="+strings.TrimSpace(s.run(s.block("export ETCD=")+`echo "$ETCD"`)))
	require.Eventually(t, func() bool { // a new server registers first
		cmd := exec.CommandContext(ctx, "sh", "-ec", s.at(1, s.block("smallpantry-etcd status")))
		cmd.Env = s.env
		out, err := cmd.CombinedOutput()
		return err == nil && strings.Count(string(out), "of 64 shards") == 3
	}, hang.Patience, 200*time.Millisecond)
	assert.Contains(t, s.run(s.block("smallpantry-etcd backup")), "all of it can be read")

	stop[2]()
	require.NoError(t, s.tank(3).Set(ctx, 430), "with one server stopped")
	stop[1]()
	stop[3]()
	s.run(strings.ReplaceAll(s.block("smallpantry-etcd restore"), "2026-05-03", "$(date +%F)"))
	serve(1)
	litres, _, err := s.tank(1).Lookup(ctx)
	require.NoError(t, err)
	assert.Equal(t, 420, litres, "of the backup")

	stop[1]()
	assert.Contains(t, s.run(s.block("smallpantry-etcd export")), "moved 1 board")
	s.env[len(s.env)-1] += " --prefix=other/" // where there are no boards
	assert.Contains(t, s.run(s.block("smallpantry-etcd import")), "moved 1 board")
}
