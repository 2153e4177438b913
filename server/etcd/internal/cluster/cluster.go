// Package cluster runs nodes of etcd and servers in front of them, each a process of its own
// on loopback, to kill them: for the demo, for tests and for measuring.
package cluster

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

// Options are what a Cluster needs.
type Options struct {
	Dir     string
	Command func(args ...string) *exec.Cmd // smallpantry-etcd
	Nodes   int
	Servers int
	Board   string   // is made, and its owner's link given
	Flags   []string // more, of each server
	Log     io.Writer
	// Certificates is a directory with ca.pem, cert.pem and key.pem, which all nodes and servers use; "": no
	// encryption.
	Certificates string
	NoSync       bool // see node.Member
	// NodeAt and ServerAt say on which machine one runs, by its host and by what runs a
	// command there; nil: all on this one.
	NodeAt, ServerAt func(i int) (host string, on func(*exec.Cmd) *exec.Cmd)
}

// A Cluster runs until Close.
type Cluster struct {
	Members   []node.Member
	Addresses []string // of the servers, HOST:PORT
	Link      string   // the board's, at the first server

	o       Options
	trust   *serving.Trust // nil: no encryption
	nodes   []*process
	servers []*process
}

// Start starts all of it, and waits until it answers.
func Start(ctx context.Context, o Options) (c *Cluster, err error) {
	c = &Cluster{o: o, nodes: make([]*process, o.Nodes), servers: make([]*process, o.Servers)}
	defer func() {
		if err != nil {
			c.Close()
		}
	}()
	if dir := o.Certificates; dir != "" {
		if c.trust, err = serving.LoadTrust(filepath.Join(dir, "ca.pem"), filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")); err != nil {
			return c, err
		}
	}
	if c.Members, err = node.Plan(filepath.Join(o.Dir, "etcd"), o.Nodes); err != nil {
		return c, err
	}
	for i := range o.Nodes {
		if o.NodeAt != nil {
			host, _ := o.NodeAt(i)
			c.Members[i].Client, c.Members[i].Peer = host+":2379", host+":2380"
		}
	}
	for i := range o.Nodes {
		if err := c.StartNode(i); err != nil {
			return c, err
		}
	}
	if err := c.untilLeader(ctx); err != nil {
		return c, err
	}
	for i := range o.Servers {
		address, err := node.FreeAddress()
		if o.ServerAt != nil {
			host, _ := o.ServerAt(i)
			address = host + ":8437"
		}
		if err != nil {
			return c, err
		}
		c.Addresses = append(c.Addresses, address)
		if err := c.StartServer(ctx, i); err != nil {
			return c, err
		}
	}
	return c, nil
}

// StartNode starts a node, which continues with its directory.
func (c *Cluster) StartNode(i int) (err error) {
	m := c.Members[i]
	args := []string{"node", "--name", m.Name, "--dir", m.Dir, "--client", m.Client, "--peer", m.Peer}
	if c.o.NoSync {
		args = append(args, "--no-sync")
	}
	for _, one := range c.Members {
		args = append(args, "--member", one.Name+"="+one.Peer)
	}
	if c.trust != nil {
		args = append(args, "--certificates", c.o.Certificates)
	}
	cmd := c.o.Command(args...)
	if c.o.NodeAt != nil {
		_, on := c.o.NodeAt(i)
		cmd = on(cmd)
	}
	c.nodes[i], err = start(cmd, c.o.Log)
	return err
}

func (c *Cluster) data(i int) string { return filepath.Join(c.o.Dir, fmt.Sprintf("server%d", i+1)) }

// StartServer starts a server, and waits until it answers.
func (c *Cluster) StartServer(ctx context.Context, i int) error {
	if err := os.MkdirAll(c.data(i), 0o700); err != nil {
		return err
	}
	if i > 0 { // as an operator copies it
		raw, err := os.ReadFile(filepath.Join(c.data(0), "admin-token"))
		if err == nil {
			err = os.WriteFile(filepath.Join(c.data(i), "admin-token"), raw, 0o600)
		}
		if err != nil {
			return err
		}
	}
	args := slices.Concat([]string{"serve", "--listen", c.Addresses[i], "--data", c.data(i), "--board", c.o.Board}, c.Flags(), c.o.Flags)
	if dir := c.o.Certificates; dir != "" {
		args = append(args, "--cert", filepath.Join(dir, "cert.pem"), "--key", filepath.Join(dir, "key.pem"), "--peer-ca", filepath.Join(dir, "ca.pem"))
	}
	cmd := c.o.Command(args...)
	if c.o.ServerAt != nil {
		_, on := c.o.ServerAt(i)
		cmd = on(cmd)
	}
	p, err := start(cmd, c.o.Log)
	if err != nil {
		return err
	}
	c.servers[i] = p
	for {
		said := p.said()
		if at := strings.Index(said, c.URL(i)+"/boards/"); at >= 0 && strings.Contains(said[at:], "\n") {
			if i == 0 {
				c.Link, _, _ = strings.Cut(said[at:], "\n")
			}
			return nil
		}
		select {
		case <-p.done:
			return fmt.Errorf("server %d did not start: %s", i+1, said)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// AdminToken is that of all servers.
func (c *Cluster) AdminToken() (string, error) {
	raw, err := os.ReadFile(filepath.Join(c.data(0), "admin-token"))
	return strings.TrimSpace(string(raw)), err
}

// Flags are those of a command that uses the nodes.
func (c *Cluster) Flags() []string {
	flags := []string{"--endpoints", strings.Join(node.Endpoints(c.Members), ",")}
	if dir := c.o.Certificates; dir != "" {
		flags = append(flags, "--etcd-ca", filepath.Join(dir, "ca.pem"), "--etcd-cert", filepath.Join(dir, "cert.pem"), "--etcd-key", filepath.Join(dir, "key.pem"))
	}
	return flags
}

// URL is that of a server.
func (c *Cluster) URL(server int) string {
	if c.trust != nil {
		return "https://" + c.Addresses[server]
	}
	return "http://" + c.Addresses[server]
}

// HTTPClient returns a client that trusts the servers.
func (c *Cluster) HTTPClient() *http.Client {
	return &http.Client{Transport: &http.Transport{DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		config := c.trust.Config(host)
		config.NextProtos = nil
		return (&tls.Dialer{Config: config}).DialContext(ctx, network, address)
	}}}
}

// LinkAt is the board's link at another address.
func (c *Cluster) LinkAt(address string) string {
	return strings.Replace(c.Link, c.Addresses[0], address, 1)
}

func (c *Cluster) untilLeader(ctx context.Context) error {
	for {
		if _, err := c.Leader(ctx); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Leader says which node leads.
func (c *Cluster) Leader(ctx context.Context) (int, error) {
	for i, m := range c.Members {
		if c.nodes[i] == nil || c.nodes[i].paused {
			continue
		}
		config := clientv3.Config{Endpoints: []string{m.Client}, DialTimeout: time.Second, Logger: zap.NewNop()}
		if c.trust != nil {
			host, _, _ := net.SplitHostPort(m.Client)
			config.TLS = c.trust.Config(host)
		}
		client, err := clientv3.New(config)
		if err != nil {
			continue
		}
		one, cancel := context.WithTimeout(ctx, time.Second)
		status, err := client.Status(one, m.Client)
		cancel()
		if err := errors.Join(err, client.Close()); err == nil && status.Leader == status.Header.MemberId {
			return i, nil
		}
	}
	return 0, errors.New("no node leads")
}

// Kill ends a process at once, as a power cut does.
func (c *Cluster) KillNode(i int)   { c.nodes[i].kill(); c.nodes[i] = nil }
func (c *Cluster) KillServer(i int) { c.servers[i].kill(); c.servers[i] = nil }

// StopServer lets a server finish what is under way.
func (c *Cluster) StopServer(i int) error {
	p := c.servers[i]
	c.servers[i] = nil
	if err := p.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	<-p.done
	return p.err
}

// PauseNode and PauseServer have a process stand still, or go on.
func (c *Cluster) PauseNode(i int, still bool) error   { return c.nodes[i].pause(still) }
func (c *Cluster) PauseServer(i int, still bool) error { return c.servers[i].pause(still) }

// Close ends all processes.
func (c *Cluster) Close() {
	for _, p := range append(c.servers, c.nodes...) {
		if p != nil {
			p.kill()
		}
	}
}

// A process is one of the cluster's.
type process struct {
	cmd    *exec.Cmd
	done   chan struct{}
	err    error
	paused bool

	mu  sync.Mutex // guards out
	out bytes.Buffer
}

func start(cmd *exec.Cmd, log io.Writer) (*process, error) {
	p := &process{cmd: cmd, done: make(chan struct{})}
	cmd.Stdout, cmd.Stderr = p, p
	if log != nil {
		cmd.Stderr = log
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		p.err = cmd.Wait()
		close(p.done)
	}()
	return p, nil
}

func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *process) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

func (p *process) kill() {
	_ = p.cmd.Process.Kill() // which it may have been before
	<-p.done
}

func (p *process) pause(still bool) error {
	p.paused = still
	if still {
		return p.cmd.Process.Signal(syscall.SIGSTOP)
	}
	return p.cmd.Process.Signal(syscall.SIGCONT)
}
