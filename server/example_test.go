package server_test

import (
	"context"
	"fmt"
	"log"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"

	"github.com/small-pantry/pantry/server"
)

// A server in development mode, which needs no tokens and listens on this machine only.
func ExampleNew() {
	dir, err := os.MkdirTemp("", "pantry-example-")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	s, err := server.New(server.Options{Data: dir, Dev: true, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		log.Fatal(err)
	}
	defer s.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, l) }()

	at := "http://" + l.Addr().String() + "/v1/boards/rowan-street/entries/tank/litres"
	put, err := http.NewRequest(http.MethodPut, at, strings.NewReader("420"))
	if err != nil {
		log.Fatal(err)
	}
	resp, err := http.DefaultClient.Do(put)
	if err != nil {
		log.Fatal(err)
	}
	resp.Body.Close()
	fmt.Println(resp.Status)
	stop()
	fmt.Println(<-served)
	// Output:
	// 201 Created
	// <nil>
}
