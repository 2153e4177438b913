package main

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/board"
	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

// A network of machines on one bridge, each a network namespace.
type network struct{ t *testing.T }

func (n *network) ip(args ...string) error {
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return err
}

func (n *network) must(args ...string) {
	n.t.Helper()
	require.NoError(n.t, n.ip(args...))
}

const bridge = "pantry-test"

func nodeHost(i int) string   { return fmt.Sprintf("10.87.43.%d", 1+i) }
func serverHost(i int) string { return fmt.Sprintf("10.87.43.%d", 11+i) }

// lay sets up machines with these addresses. It skips the test if that is not permitted here.
func lay(t *testing.T, hosts ...string) *network {
	n := &network{t}
	if _, err := exec.LookPath("ip"); err != nil || runtime.GOOS != "linux" || os.Geteuid() != 0 {
		t.Skip("network namespaces take Linux, root and the command ip (iproute2)")
	}
	if err := n.ip("link", "add", bridge, "type", "bridge"); err != nil {
		t.Skip("network namespaces can't be made here: ", err)
	}
	t.Cleanup(func() { assert.NoError(t, n.ip("link", "del", bridge)) })
	n.must("addr", "add", "10.87.43.254/24", "dev", bridge)
	n.must("link", "set", bridge, "up")
	for _, host := range hosts {
		ns, link := space(host), device(host)
		n.must("netns", "add", ns)
		t.Cleanup(func() { assert.NoError(t, n.ip("netns", "del", ns)) })
		n.must("link", "add", link, "type", "veth", "peer", "name", "eth0", "netns", ns)
		n.must("link", "set", link, "master", bridge, "up")
		n.must("-n", ns, "addr", "add", host+"/24", "dev", "eth0")
		n.must("-n", ns, "link", "set", "eth0", "up")
		n.must("-n", ns, "link", "set", "lo", "up")
	}
	return n
}

func space(host string) string { return "pantry-" + host[strings.LastIndex(host, ".")+1:] }

func device(host string) string { return "pantry" + host[strings.LastIndex(host, ".")+1:] }

func at(host string) (string, func(*exec.Cmd) *exec.Cmd) {
	return host, func(cmd *exec.Cmd) *exec.Cmd {
		there := exec.Command("ip", append([]string{"netns", "exec", space(host), cmd.Path}, cmd.Args[1:]...)...)
		there.Env = cmd.Env
		return there
	}
}

// cut takes a machine off the network, and back.
func (n *network) cut(host string, off bool) {
	n.must("link", "set", device(host), map[bool]string{true: "down", false: "up"}[off])
}

// part has a machine not reach others, nor hear from them.
func (n *network) part(host string, from []string, off bool) {
	for _, other := range from {
		n.must("-n", space(host), "route", map[bool]string{true: "add", false: "del"}[off], "blackhole", other+"/32")
	}
}

// The network separates one node, and then one server, from the rest. A server that reaches most nodes keeps
// working. One that does not says so, and shows no old value. When the network is whole again, all agree.
func TestPartitions(t *testing.T) {
	t.Parallel()
	var hosts, nodes []string
	for i := range 3 {
		hosts, nodes = append(hosts, nodeHost(i), serverHost(i)), append(nodes, nodeHost(i))
	}
	n := lay(t, hosts...)
	c, err := cluster.Start(t.Context(), cluster.Options{
		Dir: t.TempDir(), Command: command, Nodes: 3, Servers: 3, Board: "rowan-street", Flags: []string{"--limit", "client-rate=1000"},
		NodeAt:   func(i int) (string, func(*exec.Cmd) *exec.Cmd) { return at(nodeHost(i)) },
		ServerAt: func(i int) (string, func(*exec.Cmd) *exec.Cmd) { return at(serverHost(i)) },
	})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	balancer, err := cluster.Balance(c.Addresses)
	require.NoError(t, err)
	defer func() { assert.NoError(t, balancer.Close()) }()
	admin, err := c.AdminToken()
	require.NoError(t, err)

	var all sync.WaitGroup
	var done, maybe atomic.Int64
	over := make(chan struct{})
	for i := range 6 {
		tank := join(t, c.LinkAt(balancer.Address()), fmt.Sprint("tankwatch ", i), board.WithoutPush(), board.Timeout(3*time.Second))
		all.Go(func() {
			for {
				select {
				case <-over:
					return
				case <-time.After(50 * time.Millisecond):
				}
				if _, err := board.Add(t.Context(), tank, 1); err != nil {
					maybe.Add(1)
				} else {
					done.Add(1)
				}
			}
		})
	}
	goesOn := func(what string) {
		t.Helper()
		before := done.Load()
		assert.Eventually(t, func() bool { return done.Load() > before+20 }, 15*time.Second, 10*time.Millisecond, what)
	}
	goesOn("whole")
	leader, err := c.Leader(t.Context())
	require.NoError(t, err)
	n.cut(nodeHost(leader), true)
	time.Sleep(2 * time.Second) // the rest elects a leader in this time, or later: goesOn waits for it
	goesOn("without the node that led")
	n.cut(nodeHost(leader), false)
	goesOn("with it again")

	// A server that reaches no node, and whom phones reach.
	n.part(serverHost(0), nodes, true)
	ready := fmt.Sprintf("http://%s/readyz", c.Addresses[0])
	assert.Eventually(t, func() bool { return status(t, ready, admin) == 503 }, 10*time.Second, 100*time.Millisecond)
	other := join(t, c.LinkAt(c.Addresses[1]), "gatehouse", board.Timeout(10*time.Second))
	require.NoError(t, other.Set(t.Context(), 1_000_000))
	rq := fmt.Sprintf("http://%s/v1/boards/rowan-street/entries/tank/litres", c.Addresses[0])
	assert.Equal(t, 503, status(t, rq, admin), "what it has is old")
	n.part(serverHost(0), nodes, false)
	assert.Eventually(t, func() bool { return status(t, ready, admin) == 200 }, 30*time.Second, 100*time.Millisecond)

	// And one that no phone reaches.
	n.cut(serverHost(2), true)
	goesOn("without a server")
	n.cut(serverHost(2), false)
	close(over)
	all.Wait()
	require.NoError(t, other.Set(t.Context(), 7))
	for _, address := range c.Addresses {
		value, _, err := join(t, c.LinkAt(address), "shed", board.Timeout(20*time.Second)).Lookup(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 7, value, address)
	}
	t.Logf("%d additions were answered, %d not", done.Load(), maybe.Load())
}
