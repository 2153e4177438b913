// Package console runs the commands that documents show. In a block marked console, a line that begins with
// "$ " is a command, and the lines after it are its output. In them … matches any text.
package console

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A Step is a command and the output that the document shows.
type Step struct{ Command, Want string }

// Steps returns the commands of a document.
func Steps(t testing.TB, path string) (steps []Step) {
	t.Helper()
	page, err := os.ReadFile(path)
	require.NoError(t, err)
	inside := false
	for line := range strings.Lines(string(page)) {
		switch command, is := strings.CutPrefix(line, "$ "); {
		case strings.HasPrefix(line, "```"):
			inside = strings.TrimSpace(line) == "```console"
		case inside && is:
			steps = append(steps, Step{Command: strings.TrimSpace(command)})
		case inside:
			require.NotEmpty(t, steps, "%s: a block begins with output", path)
			steps[len(steps)-1].Want += line
		}
	}
	require.NotEmpty(t, steps, path)
	return steps
}

// Matches asserts that a command has printed what the document shows. A last line can end without a
// newline.
func (s Step) Matches(t testing.TB, got string) {
	t.Helper()
	want := s.Want
	if !strings.HasSuffix(got, "\n") {
		want = strings.TrimSuffix(want, "\n")
	}
	assert.Regexp(t, "^(?s:"+strings.ReplaceAll(regexp.QuoteMeta(want), "…", ".*?")+")$", got, "%s\nshows\n%s\nand prints\n%s", s.Command, want, got)
}

// A Session is a shell that runs commands one after the other. A command that starts a server, and one that
// ends in &, run beside it until the test ends.
type Session struct {
	t     testing.TB
	env   []string
	in    io.WriteCloser
	out   *bufio.Reader
	dir   string
	texts []string // of the document, and what they are here
	link  string   // of the newest server
}

// linkWord is what documents write for a link.
var linkWord = regexp.MustCompile(`\bLINK\b`)

const end = "--- end of the command:"

// Start starts a shell in a new directory, which is also HOME, with an environment such as os.Environ.
// Texts of the document, such as an address, are replaced: each is followed by its replacement.
func Start(t testing.TB, env []string, texts ...string) *Session {
	t.Helper()
	s := &Session{t: t, dir: t.TempDir(), texts: texts}
	s.env = append(slices.Clip(env), "HOME="+s.dir, "XDG_CONFIG_HOME="+filepath.Join(s.dir, ".config"), "NO_COLOR=1")
	cmd := exec.Command("sh")
	cmd.Dir, cmd.Env = s.dir, s.env
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		in.Close()
		_ = cmd.Wait()
	})
	s.in, s.out = in, bufio.NewReader(out)
	return s
}

// Run runs the commands of a document. It asserts their output where the document shows it, and otherwise
// that they succeed.
func (s *Session) Run(path string) {
	s.t.Helper()
	for _, step := range Steps(s.t, path) {
		if s.serves(step) {
			continue
		}
		got, code := s.Do(step.Command)
		if step.Want != "" {
			step.Want = s.replace(step.Want)
			step.Matches(s.t, got)
		} else {
			assert.Zero(s.t, code, "%s\nprints\n%s", step.Command, got)
		}
	}
}

func (s *Session) replace(text string) string {
	return strings.NewReplacer(s.texts...).Replace(linkWord.ReplaceAllLiteralString(text, s.link))
}

// Do runs a command, and returns what it prints and its exit status.
func (s *Session) Do(command string) (out string, code int) {
	s.t.Helper()
	_, err := fmt.Fprintf(s.in, "%s\necho \"\n%s $?\"\n", s.replace(command), end)
	require.NoError(s.t, err)
	for {
		line, err := s.out.ReadString('\n')
		require.NoError(s.t, err, "%s\nprints\n%s", command, out)
		if at := strings.Index(line, end); at >= 0 {
			_, err := fmt.Sscan(line[at+len(end):], &code)
			require.NoError(s.t, err)
			return strings.TrimSuffix(out, "\n"), code
		}
		out += line
	}
}

// serves starts a server if that is what a step does, and waits until it listens. Its link replaces LINK in
// later commands.
func (s *Session) serves(step Step) bool {
	s.t.Helper()
	command := strings.TrimSuffix(step.Command, " &")
	if !regexp.MustCompile(`^(\w+=\S+ )*smallpantry serve\b`).MatchString(command) {
		return false
	}
	port := free(s.t)
	s.texts = append([]string{":8437", ":" + port, "--listen :8437", "--listen 127.0.0.1:" + port, "--listen :443", "--listen 127.0.0.1:" + port}, s.texts...)
	where, _ := s.Do("pwd")
	vars, _ := s.Do("env")
	cmd := exec.Command("sh", "-c", "exec "+s.replace(command))
	cmd.Dir, cmd.Env = strings.TrimSpace(where), strings.Split(strings.TrimSpace(vars), "\n")
	out, err := cmd.StdoutPipe()
	require.NoError(s.t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(s.t, cmd.Start())
	ended := make(chan struct{})
	s.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		<-ended
	})
	printed := make(chan string, 1)
	go func() {
		defer close(ended)
		text, listening := "", false
		link := regexp.MustCompile(`https?://\S+/boards/\S+`)
		for in := bufio.NewScanner(out); in.Scan(); {
			if text += in.Text() + "\n"; link.MatchString(in.Text()) {
				select {
				case printed <- link.FindString(in.Text()):
					listening = true
				default:
				}
			}
		}
		if !listening {
			s.t.Log(text)
			printed <- ""
		}
		_ = cmd.Wait()
	}()
	select {
	case link := <-printed:
		require.NotEmpty(s.t, link, step.Command)
		s.link = link
	case <-time.After(30 * time.Second):
		s.t.Fatalf("the server prints no link: %s", step.Command)
	}
	return true
}

// free returns a free port of this machine.
func free(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}
