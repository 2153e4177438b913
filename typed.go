package pantry

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// parse reads what a user typed and checks it against the key's rules: see Key.Parse.
func (d *definition) parse(typed string) (any, error) {
	if d.kind != value.KindText {
		typed = strings.TrimSpace(typed)
	}
	x, v, err := d.read(typed)
	if err != nil {
		return nil, &invalid{d.sentence(typed), err}
	}
	if err := d.check(x); err != nil {
		if !d.min.IsZero() && value.Within(v, d.min, d.max) != nil || d.choice != nil {
			return nil, &invalid{d.sentence(typed), err}
		}
		return nil, err
	}
	return x, nil
}

// formatted is the inverse of parse.
func (d *definition) formatted(x any) string {
	if d.format != nil {
		return d.format(x)
	}
	v, err := d.enc(x)
	if err != nil {
		return fmt.Sprint(reflect.ValueOf(x).Elem())
	}
	return v.String()
}

// read reads what a user typed.
func (d *definition) read(typed string) (x any, v value.Value, err error) {
	if d.typed != nil {
		if x, err = d.typed(typed); err == nil {
			v, err = d.enc(x)
		}
		return x, v, err
	}
	if d.kind.Number() {
		typed = plainNumber(typed)
	}
	if v, err = value.FromTyped(d.kind, typed); err == nil {
		x, err = d.dec(v)
	}
	if f, is := v.AsFloat(); err == nil && is && (math.IsNaN(f) || math.IsInf(f, 0)) && d.min.IsZero() {
		err = errNoNumber // it is not entered on purpose; Set can store it
	}
	return x, v, err
}

// plainNumber converts a number that a person typed to the form of JSON. It returns anything else
// unchanged.
func plainNumber(typed string) string {
	s := strings.TrimPrefix(typed, "+")
	sign := ""
	if rest, ok := strings.CutPrefix(s, "-"); ok && s == typed {
		sign, s = "-", rest
	}
	if before, after, found := strings.Cut(s, ","); found {
		if len(after) == 3 && strings.Trim(after, "0123456789") == "" && before != "0" && before != "" || strings.ContainsAny(after, ",.") || strings.Contains(before, ".") {
			return typed // it can be a thousands separator
		}
		s = before + "." + after
	}
	digits, _, _ := strings.Cut(strings.ToLower(s), "e")
	if !strings.ContainsAny(digits, "0123456789") || strings.Trim(digits, "0123456789.") != "" {
		return typed
	}
	s = strings.TrimLeft(s, "0")
	if s == "" || s[0] < '0' || s[0] > '9' {
		s = "0" + s
	}
	return sign + strings.TrimSuffix(s, ".")
}

// sentence returns what a user can enter instead of what was typed.
func (d *definition) sentence(typed string) string {
	ask := map[value.Kind]string{
		value.KindBool:  "true or false",
		value.KindInt:   "a whole number",
		value.KindFloat: "a number such as 4.5",
		value.KindText:  "a text",
		value.KindBytes: "base64",
		value.KindTime:  "a time such as 2026-05-03T09:12:44Z",
		value.KindList:  `a list such as ["C4","B2"]`,
		value.KindMap:   `a map such as {"bed":"C4"}`,
	}[d.kind]
	if d.ask != "" {
		ask = d.ask
	}
	if lo, hi, ok := d.integers(); ok {
		ask += fmt.Sprintf(" from %d to %d", lo, hi)
	} else if !d.min.IsZero() {
		ask += fmt.Sprintf(" from %s to %s", d.shown(d.min), d.shown(d.max))
	}
	if d.choice != nil {
		ask = "one of " + strings.Join(d.choice, ", ")
	}
	if typed == "" {
		return fmt.Sprintf("Nothing was entered. Enter %s.", ask)
	}
	return fmt.Sprintf("%s won't do. Enter %s.", scan.Quote(typed), ask)
}

// shown returns a value in the form of the key's Format.
func (d *definition) shown(v value.Value) string {
	if d.format != nil {
		if x, err := d.dec(v); err == nil {
			return d.format(x)
		}
	}
	return v.String()
}

// integers returns the bounds of an int key if its type or rule has narrow ones.
func (d *definition) integers() (lo, hi int64, ok bool) {
	if d.kind != value.KindInt || d.format != nil {
		return 0, 0, false
	}
	if lo, ok = d.min.AsInt(); ok {
		hi, _ = d.max.AsInt()
		return lo, hi, true
	}
	t := reflect.TypeOf(d.def).Elem()
	if t.Size() == 8 {
		return 0, 0, false
	}
	bits := uint(t.Bits())
	if t.Kind() >= reflect.Uint && t.Kind() <= reflect.Uintptr {
		return 0, 1<<bits - 1, true
	}
	return math.MinInt64 >> (64 - bits), 1<<(bits-1) - 1, true
}

// Duration declares a length of time, stored as an int of nanoseconds: at most about 292 years.
// Parse reads the usual forms: 90s, 5 min, 1h 30m, 2 days. Format writes that form.
func Duration(name string, def time.Duration) Key[time.Duration] {
	k := Int(name, def)
	k.d.typed = func(typed string) (any, error) {
		x, err := parseDuration(typed)
		return &x, err
	}
	k.d.format = func(x any) string { return formatDuration(*x.(*time.Duration)) }
	k.d.ask = "a length of time such as 90s, 5 min or 1h 30m"
	return k
}

var errNoNumber = errors.New("not a number")

var errDuration = errors.New("no length of time")

// The units of a length of time that people type.
var units = map[string]time.Duration{}

func init() {
	for unit, names := range map[time.Duration]string{
		time.Nanosecond: "ns", time.Microsecond: "us µs", time.Millisecond: "ms", time.Second: "s sec secs second seconds",
		time.Minute: "m min mins minute minutes", time.Hour: "h hr hrs hour hours", 24 * time.Hour: "d day days",
	} {
		for _, name := range strings.Fields(names) {
			units[name] = unit
		}
	}
}

// parseDuration reads numbers with units and adds them up. "0" needs no unit.
func parseDuration(typed string) (time.Duration, error) {
	rest := strings.TrimSpace(typed)
	minus := strings.HasPrefix(rest, "-")
	rest = strings.TrimPrefix(rest, "-")
	if rest == "0" {
		return 0, nil
	}
	// The sum is kept below zero, since the smallest Duration has no positive counterpart. Fractions of
	// a second are read exactly, as Duration.String writes them.
	sum, whole := 0.0, int64(0)
	for any := false; ; any = true {
		rest = strings.TrimSpace(rest)
		if rest == "" && any {
			break
		}
		n := strings.IndexFunc(rest, func(r rune) bool { return !unicode.IsDigit(r) && r != '.' && r != ',' })
		if n < 1 {
			return 0, errDuration
		}
		number, after := rest[:n], strings.TrimSpace(rest[n:])
		end := strings.IndexFunc(after, func(r rune) bool { return !unicode.IsLetter(r) })
		if end < 0 {
			end = len(after)
		}
		unit, known := units[strings.ToLower(after[:end])]
		if !known {
			return 0, errDuration
		}
		if i, ok := exactly(number, unit); ok && whole >= math.MinInt64+i {
			whole -= i
		} else {
			f, err := strconv.ParseFloat(plainNumber(number), 64)
			if err != nil {
				return 0, errDuration
			}
			sum += f * float64(unit)
		}
		rest = after[end:]
	}
	if sum > 0 {
		if total := sum - float64(whole); total >= math.MaxInt64 {
			return 0, errDuration
		}
		whole -= int64(math.Round(sum))
	}
	if minus {
		return time.Duration(whole), nil
	}
	if whole == math.MinInt64 {
		return 0, errDuration
	}
	return time.Duration(-whole), nil
}

// exactly returns a number of units in nanoseconds if that is a whole number in the range.
func exactly(number string, unit time.Duration) (ns int64, ok bool) {
	before, after, _ := strings.Cut(plainNumber(number), ".")
	if len(after) > 9 || strings.ContainsAny(after, ",") {
		return 0, false
	}
	i, err := strconv.ParseInt(before, 10, 64)
	if err != nil || i > math.MaxInt64/int64(unit) {
		return 0, false
	}
	ns = i * int64(unit)
	for _, digit := range after {
		if unit%10 != 0 {
			return 0, false
		}
		unit /= 10
		part := int64(digit-'0') * int64(unit)
		if ns > math.MaxInt64-part {
			return 0, false
		}
		ns += part
	}
	return ns, true
}

// formatDuration is Duration.String without zero parts: 1h30m.
func formatDuration(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Sentence returns the sentence in an error that a user can read, at any depth of the error: that of
// Parse, of a rule given to Check, or of a board. It contains no version, code or Go type. ok is false
// if there is none, for example if the disk is full; the app then needs words of its own.
func Sentence(err error) (sentence string, ok bool) {
	var i *invalid
	if errors.As(err, &i) {
		return i.sentence, true
	}
	var worded interface{ UserSentence() string }
	if errors.As(err, &worded) {
		return worded.UserSentence(), true
	}
	return "", false
}
