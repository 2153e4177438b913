package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
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

const kindsSource = `package main

import (
	"fmt"
	"time"

	"github.com/small-pantry/pantry"
)

type planting struct {
	Bed, Crop string
	SpacingCm float64
}

var (
	frost  = pantry.Bool("frost/warning", false)
	hour   = pantry.Int("reminder-hour", 18).Between(0, 23)
	space  = pantry.Float("spacing-m", 0.3)
	plot   = pantry.Text("plot", "C4")
	units  = pantry.OneOf("units", "metric", "imperial")
	stamp  = pantry.Bytes("stamp", nil)
	sown   = pantry.Time("sown", time.Date(2026, 5, 3, 9, 12, 44, 0, time.UTC))
	every  = pantry.Duration("water-every", 48*time.Hour)
	queue  = pantry.List[string]("hose/queue")
	perBed = pantry.Map[int]("per-bed", nil)
	best   = pantry.Object("best", planting{})
	all    = pantry.RecordsOf[planting]("plantings")
)

func main() {
	ns, err := pantry.Open("garden", "plotbook", pantry.Declare(frost, hour, space, plot, units, stamp, sown, every, queue, perBed, best, all))
	if err != nil {
		fmt.Println(err)
		return
	}
	_, err = all.In(ns).Add(best.In(ns).Get())
	fmt.Println(err, frost.In(ns).Get(), hour.In(ns).Set(7), space.In(ns).Get(), plot.In(ns).Get(), units.In(ns).Get(), stamp.In(ns).Get(),
		sown.In(ns).Get(), every.In(ns).Get(), queue.In(ns).Get(), perBed.In(ns).Get(), ns.Close())
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
	kinds, err4 := builtFrom(dir, "kinds", kindsSource)
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
	changes := 0
	buildAgain := func(name, source string) func() (float64, error) {
		return func() (float64, error) {
			changes++
			if err := os.WriteFile(filepath.Join(dir, name, "main.go"), fmt.Appendf(nil, "%s\nvar change%d int\n", source, changes), 0o644); err != nil {
				return 0, err
			}
			start := time.Now()
			_, err := built(dir, name, "./"+filepath.Join(dir, name))
			return float64(time.Since(start)), err
		}
	}
	return errors.Join(err1, err2, err3, err4,
		s.compare(row{what: "size of an app with one Int key, stripped", floor: "of a program that prints one line", limit: 1.76, unit: megabytes}, size(app), size(hello)),
		s.compare(row{what: "size of an app with a key of each kind, stripped", floor: "of a program that prints one line", limit: 2.2, unit: megabytes}, size(kinds), size(hello)),
		s.compare(row{what: "building that app again after a change", floor: "building that program again", limit: 10, unit: nanoseconds}, buildAgain("kinds", kindsSource), buildAgain("hello", helloSource)),
		s.time(row{what: "start of the command, up to its help", floor: "start of a program that prints one line", limit: 6}, start(command, "list", "--help"), start(hello)),
	)
}
