package main

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// connections is how many ask at the same time.
const connections = 64

// A shot is a request as it is sent, over and over. In its path @ is the number of the
// connection, and in its body another digit each time.
type shot struct {
	method, path, body string
	headers            []string
}

// of gives the two requests that a connection sends in turn.
func (s shot) of(conn int, host, token string) (both [2][]byte) {
	for i := range both {
		one := s
		one.path = strings.ReplaceAll(s.path, "@", strconv.Itoa(conn))
		one.body = strings.ReplaceAll(s.body, "@", strconv.Itoa(i))
		both[i] = one.bytes(host, token)
	}
	return both
}

func (s shot) bytes(host, token string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n", s.method, s.path, host, token)
	for _, h := range s.headers {
		b.WriteString(h + "\r\n")
	}
	if s.body != "" {
		fmt.Fprintf(&b, "Content-Type: application/json\r\nContent-Length: %d\r\n", len(s.body))
	}
	b.WriteString("\r\n" + s.body)
	return b.Bytes()
}

// fire sends a request over all connections for a while, and gives how many were answered a
// second. It does as little as it can besides, so that what is measured is the server.
func fire(addr, token string, one shot, d time.Duration) (perSecond float64, err error) {
	var answered atomic.Int64
	var all sync.WaitGroup
	errs := make(chan error, connections)
	until := time.Now().Add(d)
	start := time.Now()
	for i := range connections {
		requests := one.of(i, addr, token)
		all.Go(func() {
			conn, err := net.Dial("tcp", addr)
			if err != nil {
				errs <- err
				return
			}
			defer conn.Close()
			in := bufio.NewReaderSize(conn, 32<<10)
			for n := 0; time.Now().Before(until); n++ {
				if _, err = conn.Write(requests[n%2]); err == nil {
					err = readAnswer(in)
				}
				if err != nil {
					errs <- err
					return
				}
				answered.Add(1)
			}
		})
	}
	all.Wait()
	select {
	case err := <-errs:
		return 0, fmt.Errorf("%s %s: %w", one.method, one.path, err)
	default:
	}
	return float64(answered.Load()) / time.Since(start).Seconds(), nil
}

// readAnswer reads an answer, which must be one that went well.
func readAnswer(in *bufio.Reader) error {
	line, err := in.ReadSlice('\n')
	if err != nil {
		return err
	}
	if len(line) < 12 || line[9] > '3' {
		return fmt.Errorf("answered %q", line)
	}
	length := 0
	for {
		if line, err = in.ReadSlice('\n'); err != nil {
			return err
		}
		if len(line) <= 2 {
			_, err = in.Discard(length)
			return err
		}
		if rest, is := bytes.CutPrefix(line, []byte("Content-Length: ")); is {
			if length, err = strconv.Atoi(strings.TrimSpace(string(rest))); err != nil {
				return err
			}
		}
	}
}
