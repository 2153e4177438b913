package main

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

const helloSource = `package main

import "fmt"

func main() { fmt.Println("hello") }
`

const appSource = `package main

import (
	"fmt"

	"github.com/small-pantry/pantry"
)

func main() {
	ns, err := pantry.Open("garden", "plotbook")
	if err != nil {
		fmt.Println(err)
		return
	}
	hour := pantry.Int("reminder-hour", 18).In(ns)
	fmt.Println(hour.Get(), hour.Set(7), ns.Close())
}
`

// idleSource is a server of net/http alone, the floor of memory. It answers /events with a stream.
const idleSource = `package main

import (
	"fmt"
	"log"
	"net"
	"net/http"
)

func main() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	http.HandleFunc("/healthz", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintln(w, "ok") })
	http.HandleFunc("/events", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "data: hello\n\n")
		http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	fmt.Println("serving on http://" + l.Addr().String())
	log.Fatal(http.Serve(l, nil))
}
`

// built builds a package, stripped, and returns the path of the program.
func built(dir, name, pkg string) (path string, err error) {
	path = filepath.Join(dir, name+".bin")
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s -w", "-o", path, pkg)
	cmd.Stderr = os.Stderr
	return path, cmd.Run()
}

// builtFrom builds a program of one file. dir must lie within the module.
func builtFrom(dir, name, source string) (path string, err error) {
	at := filepath.Join(dir, name)
	if err := os.Mkdir(at, 0o755); err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(at, "main.go"), []byte(source), 0o644); err != nil {
		return "", err
	}
	return built(dir, name, "./"+at)
}

// temporary makes a directory within the module, for programs that are built there.
func temporary() (dir string, remove func(), err error) {
	dir, err = os.MkdirTemp(".", "bench-")
	return dir, func() { os.RemoveAll(dir) }, err
}

// programs compares the size of an app, and the start of the command, with a program that prints one
// line.
func programs(s *suite) error {
	dir, remove, err := temporary()
	if err != nil {
		return err
	}
	defer remove()
	hello, err1 := builtFrom(dir, "hello", helloSource)
	app, err2 := builtFrom(dir, "app", appSource)
	command, err3 := built(dir, "command", "./cmd/smallpantry")
	size := func(path string) func() (float64, error) {
		return func() (float64, error) {
			info, err := os.Stat(path)
			if err != nil {
				return 0, err
			}
			return float64(info.Size()), nil
		}
	}
	start := func(path string, args ...string) func(b *testing.B) {
		return func(b *testing.B) {
			for range b.N {
				if err := exec.Command(path, args...).Run(); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
	return errors.Join(err1, err2, err3,
		s.compare(row{what: "size of an app with one Int key, stripped", floor: "of a program that prints one line", limit: 1.76, unit: megabytes}, size(app), size(hello)),
		s.time(row{what: "start of the command, up to its help", floor: "start of a program that prints one line", limit: 6}, start(command, "list", "--help"), start(hello)),
	)
}
