package main

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"sync"
	"testing"
)

// manyStreamsWatch compares a PUT of a name that 2,000 streams watch with one of a name without
// watchers, on the same board.
func manyStreamsWatch(s *suite, site *site) error {
	const what = "a PUT of a name that 2,000 streams watch"
	return site.beside(s, what, path+"/events?name=tank/litres", func() error {
		return s.time(row{what: what, floor: "of a name without watchers", limit: 3}, site.put("tank/litres"), site.put("tank/unwatched"))
	})
}

// besideStreams compares a PUT on a board that 2,000 streams follow, each with 100 prefixes that
// don't match, with one on a board without streams.
func besideStreams(s *suite, few, many *site) error {
	const what = "a PUT beside 2,000 streams of 100 prefixes each"
	events := path + "/events?prefix=p0/"
	for i := 1; i < 100; i++ {
		events += fmt.Sprintf("&prefix=p%d/", i)
	}
	return many.beside(s, what, events, func() error {
		return s.time(row{what: what, floor: "of a board without streams", limit: 2}, many.put("tank/beside"), few.put("tank/beside"))
	})
}

// put returns PUTs of a name, one at a time: how long does a phone wait?
func (s *site) put(name string) func(b *testing.B) {
	return func(b *testing.B) {
		conn, err := net.Dial("tcp", s.addr)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		in := bufio.NewReader(conn)
		for n := range b.N {
			if _, err = conn.Write(request{method: "PUT", path: path + "/entries/" + name, body: fmt.Sprint(n)}.bytes(s.addr, s.token, 0, 0)); err == nil {
				err = readAnswer(in)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	}
}

// beside calls f while another process reads 2,000 streams of the site, if the row is wanted. In this
// process, Go would run the readers before the request that is measured.
func (s *site) beside(of *suite, what, events string, f func() error) error {
	if !of.wants(what) {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	readers := exec.Command(self, "streams", s.addr, s.token, events, "2000")
	readers.Stderr = os.Stderr
	in, err1 := readers.StdinPipe()
	out, err2 := readers.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	if err := readers.Start(); err != nil {
		return err
	}
	if _, err = bufio.NewReader(out).ReadString('\n'); err == nil {
		err = f()
	}
	return errors.Join(err, in.Close(), readers.Wait())
}

// readStreams is that other process. It says when all streams are open, and reads them until its
// standard input ends.
func readStreams(addr, token, path, n string) error {
	many, err := strconv.Atoi(n)
	if err != nil {
		return err
	}
	stop, err := streams(addr, token, path, many)
	defer stop()
	if err != nil {
		return err
	}
	fmt.Println("open")
	_, err = io.Copy(io.Discard, os.Stdin)
	return err
}

// streams opens streams at a path and reads them until stop is called. It returns once each has had its
// first event. It opens a hundred at a time, because a server closes connections that have not yet sent
// a token when there are too many.
func streams(addr, token, path string, n int) (stop func(), err error) {
	var conns []net.Conn
	var reading sync.WaitGroup
	stop = func() {
		for _, c := range conns {
			c.Close()
		}
		reading.Wait()
	}
	one := request{method: "GET", path: path}.bytes(addr, token, 0, 0)
	first := make(chan error, 100)
	for opened := 0; opened < n; {
		some := min(cap(first), n-opened)
		for range some {
			conn, err := net.Dial("tcp", addr)
			if err != nil {
				return stop, err
			}
			conns = append(conns, conn)
			reading.Go(func() {
				_, err := conn.Write(one)
				in := bufio.NewReaderSize(conn, 512)
				for line := []byte(nil); err == nil && !bytes.HasPrefix(line, []byte("data:")); {
					if line, err = in.ReadSlice('\n'); err == bufio.ErrBufferFull { // its beginning is enough
						err = nil
					}
				}
				first <- err
				_, _ = io.Copy(io.Discard, in)
			})
		}
		for range some {
			if err := <-first; err != nil {
				return stop, err
			}
		}
		opened += some
	}
	return stop, nil
}
