package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// said runs a command and returns its output.
func said(t *testing.T, args ...string) (out, errs string, code int) {
	t.Helper()
	var stdout, stderr strings.Builder
	code = run(args, strings.NewReader(""), &stdout, &stderr)
	return stdout.String(), stderr.String(), code
}

// An accident, and 20,000 additions after it: it is found in the history of its
// entry, and undone by the version before it; and a day later, by a time.
func TestUndoingAnAccident(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "garden")
	now := time.Now().Add(-26 * time.Hour)
	l, err := ledger.Open(dir, "plotbook", ledger.Options{Now: func() time.Time { return now }})
	require.NoError(t, err)
	put := func(name string, change func(n int64) int64) {
		_, err := l.CommitWithin(time.Hour, entry.Author{By: "plotbook"}, ledger.JudgeFunc(func(tx *ledger.Tx) error {
			n, _ := tx.Value(name).AsInt()
			enc, err := ledger.Encode(value.Int(change(n)))
			tx.Put(name, enc)
			return err
		}))
		require.NoError(t, err)
	}
	put("tank/litres", func(int64) int64 { return 420 })
	put("reminder-hour", func(int64) int64 { return 7 })
	now = now.Add(time.Hour)
	put("tank/litres", func(int64) int64 { return 0 }) // 25 hours ago
	for range 20_000 {
		now = now.Add(4 * time.Second) // up to 3 hours ago
		put("visits", func(n int64) int64 { return n + 1 })
	}
	require.NoError(t, l.Close())

	place := filepath.Join(dir, "plotbook")
	out, _, code := said(t, "history", place, "tank/litres", "-n", "1")
	require.Zero(t, code)
	assert.Regexp(t, `(?m)^3 +25 h +tank/litres +420 +→ +0 +plotbook`, out)
	_, errs, code := said(t, "get", place+"@9000", "visits")
	assert.Equal(t, exitAbsent, code)
	assert.Contains(t, errs, "version 9000 is not kept")
	out, _, code = said(t, "restore", place+"@2", "tank/litres")
	require.Zero(t, code)
	assert.Equal(t, "tank/litres: 0 → 420\n", out)
	_, _, code = said(t, "put", place, "tank/litres", "0")
	require.Zero(t, code)

	out, _, code = said(t, "get", place+"@-25h30m", "tank/litres")
	require.Zero(t, code)
	assert.Equal(t, "420\n", out)
	moment := time.Now().Add(-25*time.Hour - 30*time.Minute).Format("2006-01-02T15:04")
	out, _, code = said(t, "compare", place+"@"+moment, place)
	assert.Equal(t, exitFailed, code)
	assert.Regexp(t, `(?m)^changed +tank/litres +420 +0$`, out)
	assert.Regexp(t, `(?m)^added +visits +– +20000$`, out)
	out, _, code = said(t, "list", place+"@-20h")
	require.Zero(t, code)
	var visits int64
	for line := range strings.Lines(out) {
		if fields := strings.Fields(line); len(fields) > 2 && fields[0] == "visits" {
			_, err := fmt.Sscan(strings.ReplaceAll(fields[2], " ", ""), &visits)
			require.NoError(t, err)
		}
	}
	assert.InDelta(t, 5*3600/4, visits, 3600/4+2, "to the hour: %s", out)
	out, _, code = said(t, "restore", place+"@-25h30m")
	require.Zero(t, code)
	assert.Contains(t, out, "tank/litres: 0 → 420\n")
	assert.Regexp(t, `visits: 20000 → –`, out)
	_, errs, code = said(t, "restore", place+"@2100-01-01")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errs, "is in the future")

	before, err := os.ReadFile(place + ".jsonl")
	require.NoError(t, err)
	assert.Less(t, len(before), 2<<20)
}
