package server_test

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/console"
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
	steps := console.Steps(t, "../docs/http.md")
	require.Greater(t, len(steps), 30)
	base, _ := start(t, t.TempDir())
	with := startShared(t, server.Options{})
	addresses := strings.NewReplacer("http://127.0.0.1:8437", base, "https://pantry.example", with.base)

	const end = "--- end ---"
	script := "curl() { command curl -s \"$@\"; }\n"
	for _, s := range steps {
		script += addresses.Replace(s.Command) + "\necho '" + end + "'\n"
	}
	cmd := exec.Command("sh")
	cmd.Env = append(os.Environ(), "ADMIN="+with.admin)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err)
	got := strings.Split(string(out), end+"\n")
	require.Len(t, got, len(steps)+1)
	for i, s := range steps {
		s.Want = addresses.Replace(s.Want)
		s.Matches(t, got[i])
	}
}

// The steps of docs/blocks.md work as the calls that their blocks make, for two counters on two phones.
func TestBlocksPage(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../docs/blocks.md")
	require.NoError(t, err)
	page := string(raw)
	says := func(text string) string { // a text that the page asks the reader to use
		t.Helper()
		require.Contains(t, page, "`"+text+"`")
		return text
	}
	s := startShared(t, server.Options{})
	s.make("garden")
	token, _ := s.invite(s.admin, "garden", `{"may":"write","label":"phones"}`)
	base := strings.NewReplacer("http://HOST:8437", s.base).Replace(says("http://HOST:8437/v1/boards/garden/entries/"))
	call := func(method, url, text string, headers ...string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(text))
		require.NoError(t, err)
		headers = append(headers, says("Authorization"), strings.Replace(says("Bearer TOKEN"), "TOKEN", token, 1), says("Accept"), says("text/plain"), says("Client-Instance"), strings.Repeat("ab12", 8))
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(body), resp.Header
	}
	counter := base + says("cans")
	code, _, _ := call("GET", counter, "")
	assert.Equal(t, 404, code, "then the app shows 0")
	count := func(url, key string) string {
		t.Helper()
		code, text, _ := call("POST", url, says(`{"op":"add","amount":1}`), says("Content-Type"), says("application/json"), says("Idempotency-Key"), key)
		assert.Contains(t, []int{200, 201}, code, text)
		return text
	}
	assert.Equal(t, "1", count(counter, "one"))
	assert.Equal(t, "1", count(counter, "one"), "the same text with the same key")
	assert.Equal(t, "2", count(counter, "two"))
	assert.Equal(t, "1", count(base+says("cans-empty"), "three"))
	code, text, header := call("GET", counter, "")
	assert.Equal(t, []any{200, "2"}, []any{code, text})
	code, _, _ = call("GET", counter, "", says("If-None-Match"), header.Get("ETag"))
	assert.Equal(t, 304, code)
	code, _, _ = call("PUT", base+"gate/notice"+says("?as=text"), "42", "Content-Type", "text/plain")
	assert.Equal(t, 201, code)
	code, text, _ = call("GET", base+"gate/notice", "")
	assert.Equal(t, []any{200, "42"}, []any{code, text})
	code, text, _ = call("POST", base+"gate/notice", `{"op":"add","amount":1}`, "Content-Type", "application/json")
	assert.Equal(t, 409, code)
	assert.Contains(t, text, `"detail":"`)
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
