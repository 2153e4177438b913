package server_test

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/server"
)

// Every line of docs/http.md answers what the page says that it does, where … is
// anything.
func TestHTTPPage(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"curl", "sh", "sed", "tr"} {
		if _, err := exec.LookPath(tool); err != nil {
			if os.Getenv("CI") == "true" {
				t.Fatal(err)
			}
			t.Skipf("%s is not there: %v", tool, err)
		}
	}
	page, err := os.ReadFile("../docs/http.md")
	require.NoError(t, err)
	base, _ := start(t, t.TempDir())
	with := startShared(t, server.Options{})
	addresses := strings.NewReplacer("http://127.0.0.1:8437", base, "https://pantry.example", with.base)

	// All lines run in one shell, which says where the output of each ends.
	type step struct{ command, want string }
	var steps []step
	inside := false
	for line := range strings.Lines(string(page)) {
		switch command, is := strings.CutPrefix(line, "$ "); {
		case strings.HasPrefix(line, "```"):
			inside = strings.TrimSpace(line) == "```console"
		case inside && is:
			steps = append(steps, step{command: strings.TrimSpace(command)})
		case inside:
			steps[len(steps)-1].want += line
		case strings.HasPrefix(strings.TrimSpace(line), "curl"):
			t.Errorf("outside of a block that is run: %s", line)
		}
	}
	require.Greater(t, len(steps), 30)
	const end = "--- end ---"
	script := "curl() { command curl -s \"$@\"; }\n"
	for _, s := range steps {
		script += addresses.Replace(s.command) + "\necho '" + end + "'\n"
	}
	cmd := exec.Command("sh")
	cmd.Env = append(os.Environ(), "ADMIN="+with.admin)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err)
	got := strings.Split(string(out), end+"\n")
	require.Len(t, got, len(steps)+1)
	for i, s := range steps {
		s.want = addresses.Replace(s.want)
		pattern := strings.ReplaceAll(regexp.QuoteMeta(s.want), "…", `.*`)
		if want, bare := strings.CutSuffix(s.want, "\n"); bare && !strings.HasSuffix(got[i], "\n") {
			pattern = strings.ReplaceAll(regexp.QuoteMeta(want), "…", `.*`)
		}
		assert.Regexp(t, "^"+pattern+"$", got[i], fmt.Sprintf("%s\nsays\n%s\nand answers\n%s", s.command, s.want, got[i]))
	}
}

// The program of docs/python.md runs unchanged.
func TestPythonPage(t *testing.T) {
	t.Parallel()
	python, err := exec.LookPath("python3")
	if err != nil && os.Getenv("CI") != "true" {
		t.Skip("python3 is not there")
	}
	require.NoError(t, err)
	page, err := os.ReadFile("../docs/python.md")
	require.NoError(t, err)
	_, code, _ := strings.Cut(string(page), "```python\n")
	code, _, found := strings.Cut(code, "```")
	require.True(t, found)
	s := startShared(t, server.Options{})
	s.make("garden")
	token, _ := s.invite(s.admin, "garden", `{"may":"write","label":"pump"}`)
	require.Equal(t, 200, s.as(token, "POST", "/v1/boards/garden/commit", `{"ops":[{"op":"put","name":"tank/litres","value":420}]}`).status)
	program := exec.Command(python, "-c", code)
	program.Env = append(os.Environ(), "BOARD_LINK="+s.base+"/boards/garden#"+token)
	out, err := program.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "410\n410 litres, by pump\n", string(out))
}
