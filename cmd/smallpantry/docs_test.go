package main

import (
	"bufio"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/test/console"
)

// The commands of the how-to pages run as they are written, and print what the pages show.
func TestHowTo(t *testing.T) {
	t.Parallel()
	for _, page := range []string{"start", "share", "authority", "backup", "recover"} {
		t.Run(page, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath("openssl"); err != nil && os.Getenv("CI") != "true" && page == "authority" {
				t.Skip("openssl is missing: make test installs it")
			}
			bin := t.TempDir()
			self, err := os.Executable()
			require.NoError(t, err)
			require.NoError(t, os.Symlink(self, bin+"/smallpantry"))
			env := append(slices.Clip(environ), "PATH="+bin+":"+os.Getenv("PATH"))
			for _, name := range []string{"GOCACHE", "GOMODCACHE"} { // their defaults are below HOME
				cmd := exec.Command("go", "env", name)
				cmd.Dir, cmd.Env = clone, environ
				out, err := cmd.Output()
				require.NoError(t, err)
				env = append(env, name+"="+strings.TrimSpace(string(out)))
			}
			s := console.Start(t, append(env, "GOPROXY=off", "GOSUMDB=off", "GOFLAGS=-mod=mod"), "http://192.168.1.20", "http://127.0.0.1", "https://192.168.1.20", "https://127.0.0.1", "IP:192.168.1.20", "IP:127.0.0.1")
			if page == "start" { // in the clone, whose command is this one
				_, code := s.Do("cd '" + clone + `' && go() { if [ "$2" = ./cmd/smallpantry ]; then shift 2; smallpantry "$@"; else command go "$@"; fi; }`)
				require.Zero(t, code)
			}
			s.Run(clone + "/docs/" + page + ".md")
		})
	}
}

// The commands and the unit of the pages for operators start a server that answers, and a signal ends it.
func TestOperatorPages(t *testing.T) {
	t.Parallel()
	secure := httptest.NewTLSServer(nil) // has a certificate
	t.Cleanup(secure.Close)
	etc := t.TempDir()
	key, err := x509.MarshalPKCS8PrivateKey(secure.TLS.Certificates[0].PrivateKey)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}, "key.pem": {Type: "PRIVATE KEY", Bytes: key}} {
		require.NoError(t, os.WriteFile(filepath.Join(etc, name), pem.EncodeToMemory(block), 0o600))
	}
	commands := 0
	for _, page := range []string{"internet", "proxy"} {
		text, err := os.ReadFile(clone + "/docs/" + page + ".md")
		require.NoError(t, err)
		for _, line := range regexp.MustCompile(`(?m)^    .*\bsmallpantry (serve .*)$`).FindAllStringSubmatch(string(text), -1) {
			commands++
			data := t.TempDir()
			args := strings.Fields(strings.NewReplacer("/var/lib/smallpantry", data, "${STATE_DIRECTORY}", data, "/etc/pantry/", etc+"/", " cert.pem", " "+etc+"/cert.pem", " key.pem", " "+etc+"/key.pem", ":443", "127.0.0.1:0").Replace(line[1]))
			if !slices.Contains(args, "--listen") {
				args = append(args, "--listen", "127.0.0.1:0")
			}
			cmd := exec.Command("smallpantry", args...)
			cmd.Env = environ
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			lines := bufio.NewScanner(out)
			address, found := "", false
			for !found && lines.Scan() {
				address, found = strings.CutPrefix(lines.Text(), "serving on ")
			}
			answer, err := secure.Client().Get(address + "/healthz")
			if assert.NoError(t, err, line[1]) {
				assert.Equal(t, http.StatusOK, answer.StatusCode)
				answer.Body.Close()
			}
			assert.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			for lines.Scan() {
			}
			assert.NoError(t, cmd.Wait(), line[1])
		}
	}
	assert.Equal(t, 3, commands)
}
