package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/small-pantry/pantry/server/etcd/internal/cluster"
)

// others measures what the commits of one server's boards cost another server, which has none of them open.
func (b *bench) others() error {
	command := filepath.Join(b.dir, "smallpantry-etcd")
	c, err := cluster.Start(b.ctx, cluster.Options{
		Dir: filepath.Join(b.dir, "others"), Nodes: 1, Servers: 2, Board: "rowan-street", Flags: []string{"--limit", "client-rate=100000", "--limit", "address-rate=100000", "--limit", "board-rate=100000"},
		Command: func(args ...string) *exec.Cmd { return exec.Command(command, args...) },
	})
	if err != nil {
		return err
	}
	defer c.Close()
	admin, err := c.AdminToken()
	if err != nil {
		return err
	}
	ask, metric := b.asking(c, admin)
	if err := b.untilJoined(func() (float64, error) { return metric(0, "smallpantry_etcd_servers") }); err != nil {
		return err
	}
	own, err := ownBoards(ask, metric)
	if err != nil {
		return err
	}
	cpu := func() (at [2]float64, err error) {
		for i := range at {
			var bad error
			at[i], bad = metric(i, "process_cpu_seconds_total")
			err = errors.Join(err, bad)
		}
		return at, err
	}
	before, err := cpu()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(b.ctx, 5*time.Second)
	defer cancel()
	var writers sync.WaitGroup
	for i := range 32 {
		writers.Go(func() {
			for ctx.Err() == nil {
				_, _ = ask(0, "POST", own[i%len(own)], `{"op":"add","amount":1}`)
			}
		})
	}
	writers.Wait()
	after, err := cpu()
	if err != nil {
		return err
	}
	mine, theirs := after[0]-before[0], after[1]-before[1]
	ratio := theirs / mine
	b.row("CPU of a server for another's commits, with none of the boards open", "CPU of that other server", fmt.Sprintf("%.2f s", theirs), fmt.Sprintf("%.2f s", mine), fmt.Sprintf("%.2f", ratio), "at most 0.1", ratio <= 0.1)
	return nil
}

// asking returns functions that call a server with the admin token, and that read a metric of it.
func (b *bench) asking(c *cluster.Cluster, admin string) (ask asker, metric meter) {
	ask = func(server int, method, path, body string) (string, error) {
		req, err := http.NewRequestWithContext(b.ctx, method, "http://"+c.Addresses[server]+path, strings.NewReader(body))
		if err != nil {
			return "", err
		}
		req.Header.Set("Authorization", "Bearer "+admin)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", err
		}
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		if err == nil && resp.StatusCode >= 300 {
			err = fmt.Errorf("%s %s: %d %s", method, path, resp.StatusCode, raw)
		}
		return string(raw), err
	}
	return ask, func(server int, name string) (float64, error) {
		all, err := ask(server, "GET", "/metrics", "")
		if err != nil {
			return 0, err
		}
		for line := range strings.Lines(all) {
			if text, ok := strings.CutPrefix(line, name+" "); ok {
				return strconv.ParseFloat(strings.TrimSpace(text), 64)
			}
		}
		return 0, fmt.Errorf("there is no %s", name)
	}
}

type (
	asker func(server int, method, path, body string) (string, error)
	meter func(server int, name string) (float64, error)
)

// ownBoards makes boards and returns the paths of an entry on those whose home is the first server: the
// second one passes a call to them on.
func ownBoards(ask asker, metric meter) (own []string, err error) {
	for i := range 64 {
		path := fmt.Sprintf("/v1/boards/board-%d/entries/n", i)
		before, err1 := metric(1, "smallpantry_etcd_passed_total")
		_, err2 := ask(0, "POST", "/v1/boards", fmt.Sprintf(`{"board":"board-%d"}`, i))
		_, err3 := ask(1, "PUT", path, "0")
		after, err4 := metric(1, "smallpantry_etcd_passed_total")
		if err := errors.Join(err1, err2, err3, err4); err != nil {
			return nil, err
		}
		if after > before {
			own = append(own, path)
		}
	}
	if len(own) == 0 {
		return nil, errors.New("the first server is the home of no board")
	}
	return own, nil
}

// untilJoined waits until a server knows of two.
func (b *bench) untilJoined(servers func() (float64, error)) error {
	for range 100 {
		if n, err := servers(); err == nil && n == 2 {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("the servers don't know each other")
}
