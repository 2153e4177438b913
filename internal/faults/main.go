// Command faults puts each fault of a list into the code, runs the tests that should notice it, and
// reports every fault that no test noticed. It changes no file of the repository: the go command
// reads the faulty file through an overlay.
//
//	go run ./internal/faults [-v] [WORD...]
//
// With words it tries only the faults whose file or promise contains one of them. It exits with 1 if
// a fault is unnoticed, no longer applies, or does not compile, and if tests fail without a fault.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/test/bundle"
)

// A fault is a change of a file that breaks a promise.
type fault struct {
	file     string // relative to the repository
	old, new string // old occurs once in the file
	promise  string
	packages []string // that are tested, one after the other, until a test fails; none means the default for the file
}

// suites maps the beginning of a file's name to the packages whose tests should notice its faults. The
// first match counts. A package of another module is written MODULE:PACKAGE.
var suites = []struct {
	prefix   string
	packages []string
}{
	{"internal/journal/", []string{"./internal/journal", "./internal/ledger"}},
	{"internal/ledger/", []string{"./internal/ledger", "."}},
	{"internal/rules/", []string{"./server", "./internal/store"}},
	{"internal/store/", []string{"./internal/store", "./server"}},
	{"internal/access/", []string{"./internal/access", "./server"}},
	{"internal/cli/serving/", []string{"./internal/cli/serving"}},
	{"internal/", []string{"./server", "./board", "./cmd/smallpantry"}},
	{"value/", []string{"./value", "."}},
	{"server/etcd/", []string{"server/etcd:."}},
	{"server/", []string{"./server"}},
	{"board/", []string{"./board"}},
	{"js/", []string{"./js"}},
	{"mobile/", []string{"./mobile/..."}},
	{"cmd/smallpantry/", []string{"./cmd/smallpantry"}},
	{"pantrytest/", []string{"./pantrytest"}},
	{"", []string{".", "./pantrytest"}},
}

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	flags := flag.NewFlagSet("faults", flag.ContinueOnError)
	verbose := flags.Bool("v", false, "print the output of failed builds and tests")
	if err := flags.Parse(args); err != nil {
		return 2
	}
	bad := 0
	for _, f := range faults {
		if !f.wanted(flags.Args()) {
			continue
		}
		began := time.Now()
		noticed, output, err := f.try()
		verdict := "noticed by " + strings.Join(noticed, ", ")
		switch {
		case err != nil:
			verdict = "ERROR: " + err.Error()
			bad++
		case len(noticed) == 0:
			verdict = "UNNOTICED"
			bad++
		}
		fmt.Printf("%s: %s: %s (%.0f s)\n", f.file, f.promise, verdict, time.Since(began).Seconds())
		if *verbose && err != nil {
			fmt.Println(output)
		}
	}
	if bad > 0 {
		fmt.Printf("%d faults need attention\n", bad)
		return 1
	}
	return 0
}

func (f fault) wanted(words []string) bool {
	return len(words) == 0 || slices.ContainsFunc(words, func(w string) bool {
		return strings.Contains(f.file, w) || strings.Contains(f.promise, w)
	})
}

// try returns the tests that failed with the fault.
func (f fault) try() (noticed []string, output string, err error) {
	raw, err := os.ReadFile(f.file)
	if err != nil {
		return nil, "", err
	}
	if n := bytes.Count(raw, []byte(f.old)); n != 1 {
		return nil, "", fmt.Errorf("it no longer applies: the text occurs %d times", n)
	}
	dir, err := os.MkdirTemp("", "faults-")
	if err != nil {
		return nil, "", err
	}
	defer os.RemoveAll(dir)
	faulty := filepath.Join(dir, filepath.Base(f.file))
	if err := os.WriteFile(faulty, bytes.Replace(raw, []byte(f.old), []byte(f.new), 1), 0o600); err != nil {
		return nil, "", err
	}
	path, err := filepath.Abs(f.file)
	if err != nil {
		return nil, "", err
	}
	replace := map[string]string{path: faulty}
	switch {
	case strings.HasPrefix(f.file, pageSources):
		replace, err = f.bundlePage(dir)
	case strings.HasPrefix(f.file, moduleSources):
		replace, err = f.bundleModule(dir)
	}
	if err != nil {
		return nil, "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": replace})
	if err != nil {
		return nil, "", err
	}
	list := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(list, overlay, 0o600); err != nil {
		return nil, "", err
	}
	for _, p := range f.suite() {
		if err := passes(p); err != nil {
			return nil, "", err
		}
		if noticed, output, err = test(list, p); err != nil || len(noticed) > 0 {
			return noticed, output, err
		}
	}
	return nil, output, nil
}

// These sources are bundled before they are served.
const (
	pageSources   = "server/page/src/"
	moduleSources = "js/src/"
)

// bundlePage bundles the page with the fault, and returns what replaces the bundled files.
func (f fault) bundlePage(dir string) (map[string]string, error) {
	made, err := bundle.Build("server", filepath.Join(dir, "bundle"), f.change)
	if err != nil {
		return nil, err
	}
	replace := map[string]string{}
	for _, name := range bundle.Files {
		path, err := filepath.Abs(filepath.Join("server/page", name))
		if err != nil {
			return nil, err
		}
		replace[path] = filepath.Join(made, name)
	}
	return replace, nil
}

// bundleModule is bundlePage for the client for pages.
func (f fault) bundleModule(dir string) (map[string]string, error) {
	made, err := bundle.Module("js", filepath.Join(dir, "bundle"), f.change)
	if err != nil {
		return nil, err
	}
	path, err := filepath.Abs("js/small-pantry.js")
	return map[string]string{path: made}, err
}

// change puts the fault into the text of its file.
func (f fault) change(name, text string) string {
	if name == filepath.Base(f.file) {
		text = strings.Replace(text, f.old, f.new, 1)
	}
	return text
}

func (f fault) suite() []string {
	if len(f.packages) > 0 {
		return f.packages
	}
	i := slices.IndexFunc(suites, func(s struct {
		prefix   string
		packages []string
	}) bool {
		return strings.HasPrefix(f.file, s.prefix)
	})
	return suites[i].packages
}

// passed holds the result of passes by package.
var passed = map[string]error{}

// passes returns an error if a package's tests fail without a fault: they would then notice every fault.
func passes(pkg string) error {
	err, known := passed[pkg]
	if known {
		return err
	}
	failed, _, err := test("", pkg)
	if err == nil && len(failed) > 0 {
		err = fmt.Errorf("without a fault, %s fails too", strings.Join(failed, ", "))
	}
	passed[pkg] = err
	return err
}

// test runs the tests of a package, with an overlay if there is one, and returns the first ones that failed.
func test(overlay, pkg string) (failed []string, output string, err error) {
	module, path, inModule := strings.Cut(pkg, ":")
	if !inModule {
		module, path = ".", pkg
	}
	// A test that only compares two files would notice every change.
	cmd := exec.Command("go", "test", "-overlay", overlay, "-json", "-count=1", "-failfast", "-timeout=3m", "-parallel=8", "-skip=^(TestModuleIsBuilt|TestPageIsBuilt)$", path)
	cmd.Dir = module
	var out, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &stderr
	end := cmd.Run()
	ran := false
	var text strings.Builder
	for lines := bufio.NewScanner(&out); lines.Scan(); {
		var e struct{ Action, Test, Output, Package string }
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			continue
		}
		ran = ran || e.Action == "run"
		text.WriteString(e.Output)
		if e.Action == "fail" && e.Test != "" && !strings.Contains(e.Test, "/") {
			failed = append(failed, e.Test)
		}
	}
	output = text.String() + stderr.String()
	switch {
	case end == nil:
		return nil, output, nil
	case errors.As(end, new(*exec.ExitError)) && ran && len(failed) == 0: // it hung, or the leak check failed
		return []string{"the package " + path}, output, nil
	case len(failed) > 0:
		return failed, output, nil
	}
	return nil, output, fmt.Errorf("go test %s: %w", path, end)
}
