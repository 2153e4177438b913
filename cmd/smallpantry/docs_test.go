package main

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

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
