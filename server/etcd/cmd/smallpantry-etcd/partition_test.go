package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
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

// A network of machines on one bridge, each a network namespace. The bridge is in the namespace of the
// test itself: see apart.
type network struct{ t *testing.T }

// apart runs a test that lays a network in a process with a network namespace of its own, and returns
// false in this process. Without that, the network of this machine would change, and a browser ends its
// requests then. It skips the test if that is not permitted here.
func apart(t *testing.T) bool {
	t.Helper()
	const variable = "PANTRY_APART"
	if os.Getenv(variable) == t.Name() {
		return true
	}
	_, err := exec.LookPath("ip")
	if err = errors.Join(err, exec.Command("unshare", "--net", "true").Run()); err != nil || os.Geteuid() != 0 {
		t.Skip("network namespaces take Linux, root and the commands ip (iproute2) and unshare (util-linux): ", err)
	}
	self, err := os.Executable()
	require.NoError(t, err)
	test := exec.CommandContext(t.Context(), "unshare", "--net", self, "-test.run=^"+t.Name()+"$", "-test.v", "-test.timeout=9m")
	test.Env = append(os.Environ(), variable+"="+t.Name())
	out, err := test.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "--- PASS: "+t.Name())
	t.Logf("%s", out)
	return false
}

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

// host returns the address of a machine.
func (n *network) host(machine int) string { return fmt.Sprintf("10.87.1.%d", machine) }

// space returns the name of a machine's namespace. All processes share these names.
func (n *network) space(machine int) string { return fmt.Sprintf("pantry-%d-%d", os.Getpid(), machine) }

// link returns the name of a machine's end of the bridge.
func (n *network) link(machine int) string { return fmt.Sprintf("machine-%d", machine) }

// lay sets up machines, in a test that runs apart.
func lay(t *testing.T, machines ...int) *network {
	const bridge = "bridge"
	n := &network{t}
	n.must("link", "set", "lo", "up")
	n.must("link", "add", bridge, "type", "bridge")
	n.must("addr", "add", n.host(254)+"/24", "dev", bridge)
	n.must("link", "set", bridge, "up")
	for _, machine := range machines {
		space := n.space(machine)
		n.must("netns", "add", space)
		t.Cleanup(func() { assert.NoError(t, n.ip("netns", "del", space)) })
		n.must("link", "add", n.link(machine), "type", "veth", "peer", "name", "eth0", "netns", space)
		n.must("link", "set", n.link(machine), "master", bridge, "up")
		n.must("-n", space, "addr", "add", n.host(machine)+"/24", "dev", "eth0")
		n.must("-n", space, "link", "set", "eth0", "up")
		n.must("-n", space, "link", "set", "lo", "up")
	}
	return n
}

// on returns a command that runs on a machine.
func (n *network) on(machine int, cmd *exec.Cmd) *exec.Cmd {
	there := exec.Command("ip", append([]string{"netns", "exec", n.space(machine), cmd.Path}, cmd.Args[1:]...)...)
	there.Env = cmd.Env
	return there
}

// at returns where the processes of a cluster run, which are numbered from first.
func (n *network) at(first int) func(i int) (host string, on func(*exec.Cmd) *exec.Cmd) {
	return func(i int) (string, func(*exec.Cmd) *exec.Cmd) {
		return n.host(first + i), func(cmd *exec.Cmd) *exec.Cmd { return n.on(first+i, cmd) }
	}
}

// cut takes a machine off the network, and back.
func (n *network) cut(machine int, off bool) {
	n.must("link", "set", n.link(machine), map[bool]string{true: "down", false: "up"}[off])
}

// part has a machine not reach others, nor hear from them.
func (n *network) part(machine int, from []int, off bool) {
	for _, other := range from {
		n.must("-n", n.space(machine), "route", map[bool]string{true: "add", false: "del"}[off], "blackhole", n.host(other)+"/32")
	}
}

// The network separates one node, and then one server, from the rest. A server that reaches most nodes keeps
// working. One that does not says so, and shows no old value. When the network is whole again, all agree.
func TestPartitions(t *testing.T) {
	t.Parallel()
	if !apart(t) {
		return
	}
	const node, server = 1, 11 // the first machine of each
	n := lay(t, node, node+1, node+2, server, server+1, server+2)
	c, err := cluster.Start(t.Context(), cluster.Options{
		Dir: t.TempDir(), Command: command, NoSync: true, Nodes: 3, Servers: 3, Board: "rowan-street", Flags: []string{"--limit", "client-rate=1000"},
		NodeAt: n.at(node), ServerAt: n.at(server),
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
		assert.Eventually(t, func() bool { return done.Load() > before+20 }, hang.Patience, 10*time.Millisecond, what)
	}
	goesOn("whole")
	leader, err := c.Leader(t.Context())
	require.NoError(t, err)
	n.cut(node+leader, true)
	time.Sleep(2 * time.Second) // the rest elects a leader in this time, or later: goesOn waits for it
	goesOn("without the node that led")
	n.cut(node+leader, false)
	goesOn("with it again")

	// A server that reaches no node, and whom phones reach.
	n.part(server, []int{node, node + 1, node + 2}, true)
	ready := fmt.Sprintf("http://%s/readyz", c.Addresses[0])
	assert.Eventually(t, func() bool { return status(t, ready, admin) == 503 }, hang.Patience, 100*time.Millisecond)
	other := join(t, c.LinkAt(c.Addresses[1]), "gatehouse", board.Timeout(10*time.Second))
	require.NoError(t, other.Set(t.Context(), 1_000_000))
	rq := fmt.Sprintf("http://%s/v1/boards/rowan-street/entries/tank/litres", c.Addresses[0])
	assert.Equal(t, 503, status(t, rq, admin), "what it has is old")
	n.part(server, []int{node, node + 1, node + 2}, false)
	assert.Eventually(t, func() bool { return status(t, ready, admin) == 200 }, hang.Patience, 100*time.Millisecond)

	// And one that no phone reaches.
	n.cut(server+2, true)
	goesOn("without a server")
	n.cut(server+2, false)
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
