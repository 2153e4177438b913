package place

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/scan"
)

// A When is a moment of a place's past: a version or a time. The zero When is now.
type When struct {
	typed   string
	version int64
	time    time.Time // zero if it is a version
}

// IsNow reports whether it is the present.
func (w When) IsNow() bool { return w.typed == "" }

// String returns the text that was typed after the @.
func (w When) String() string { return w.typed }

// Version returns the version, if it is one.
func (w When) Version() (n int64, ok bool) { return w.version, !w.IsNow() && w.time.IsZero() }

// Time returns the time, if it is one.
func (w When) Time() time.Time { return w.time }

// The forms of a moment. Without a zone it is in local time.
var momentForms = []string{time.RFC3339Nano, "2006-01-02T15:04Z07:00", "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02"}

// SplitWhen splits @WHEN from the end of a place: a version (@12), a moment (@2026-05-03T09:00), or
// an age (@-10m, @-2h, @-3d) before now.
func SplitWhen(where string, now time.Time) (bare string, w When, err error) {
	at := strings.LastIndexByte(where, '@')
	if at <= 0 || strings.ContainsRune(where[at:], '/') {
		return where, When{}, nil
	}
	bare, w.typed = where[:at], where[at+1:]
	if n, err := strconv.ParseInt(w.typed, 10, 64); err == nil && n >= 0 && w.typed[0] != '+' {
		w.version = n
		return bare, w, nil
	}
	if age, ok := strings.CutPrefix(w.typed, "-"); ok {
		d, err := parseAge(age)
		if err != nil {
			return "", When{}, usage("@%s is not an age: write @-10m, @-2h or @-3d", w.typed)
		}
		w.time = now.Add(-d)
		return bare, w, nil
	}
	if t, ok := parseMoment(w.typed); ok {
		if w.time = t; t.After(now) {
			return "", When{}, usage("@%s is in the future, or has not ended", w.typed)
		}
		return bare, w, nil
	}
	return "", When{}, usage("after the @ of %s, write a version (@12; history shows them), a moment (@2026-05-03T09:00) or an age (@-10m, @-2h, @-3d)", scan.Quote(Shown(where)))
}

// parseMoment parses a moment. A day means its end.
func parseMoment(s string) (t time.Time, ok bool) {
	for _, form := range momentForms {
		t, err := time.ParseInLocation(form, s, time.Local)
		if err != nil {
			continue
		}
		if form == "2006-01-02" {
			t = t.AddDate(0, 0, 1).Add(-time.Nanosecond)
		}
		return t, true
	}
	return t, false
}

// Ahead parses a moment in the future, or a time from now such as 12h or 30d.
func Ahead(s string, now time.Time) (time.Time, error) {
	t, ok := parseMoment(s)
	if !ok {
		d, err := parseAge(s)
		if err != nil {
			return t, fmt.Errorf("%s is neither a moment such as 2026-12-24T18:00 nor a time from now such as 12h or 30d", scan.Quote(s))
		}
		t = now.Add(d)
	}
	if !t.After(now) {
		return t, fmt.Errorf("%s is in the past", scan.Quote(s))
	}
	return t, nil
}

// parseAge parses an age such as 10m, 2h, 3d or 1d12h.
func parseAge(s string) (time.Duration, error) {
	days := time.Duration(0)
	if n, rest, found := strings.Cut(s, "d"); found {
		d, err := strconv.ParseUint(n, 10, 16)
		if err != nil {
			return 0, err
		}
		if days = time.Duration(d) * 24 * time.Hour; rest == "" {
			return days, nil
		}
		s = rest
	}
	d, err := time.ParseDuration(s)
	if err == nil && (d < 0 || strings.ContainsAny(s, "+-")) {
		err = fmt.Errorf("a sign within")
	}
	return days + d, err
}
