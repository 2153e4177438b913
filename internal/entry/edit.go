package entry

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// ErrConflict is returned if a condition does not hold: the entry has another version, or exists
// already.
var ErrConflict = errors.New("conflict")

// An Edit is one step of a commit: an operation on a name, or with Reset the removal of every entry
// whose name begins with Prefix.
type Edit struct {
	Name   string
	Op     value.Op
	Reset  bool
	Prefix string
	// Restore brings back an earlier state; nil for other edits.
	Restore *Restore
	// Cond tests the entry before the commit.
	Cond Cond
	// Seen is what the writer of a put knew of the entry: Version 0 if nothing, or nil if that is not
	// reported. It is no condition: the answer reports what else the put replaced.
	Seen *Tag
	// Force ignores declarations. It is not sent to a server.
	Force bool
	// Bad is why the edit can't be made, found when it was built. A commit returns it.
	Bad error
}

// A Restore says which entries to bring back, and from when.
type Restore struct {
	Version int64     // the version, if Time is zero
	Time    time.Time // as of when
	Names   []string  // these names, and those that begin with Prefix
	Prefix  *string   // nil means no others; empty means all
}

// Has reports whether the restore covers a name.
func (r Restore) Has(name string) bool {
	return r.Prefix != nil && strings.HasPrefix(name, *r.Prefix) || slices.Contains(r.Names, name)
}

// If returns the edit with the condition that the entry has a version since a moment. Version 0
// means absent. A zero moment means any moment.
func (e Edit) If(version int64, updated time.Time) Edit {
	t := Tag{Version: version}
	if !updated.IsZero() && version > 0 {
		t.At = updated.UnixMilli()
	}
	e.Cond = Cond{Is: []Tag{t}}
	return e
}

// A Tag identifies a stored value: its version, and its time in milliseconds since 1970, since a
// board that is created again counts from 1 again.
type Tag struct {
	Version int64 // 0 means absent; also Anything, Never
	At      int64 // 0 means any moment
}

// Versions of a Tag that are not versions.
const (
	Anything = -1 // any stored value
	Never    = -2 // no entry has it
)

// TagOf returns the tag of an entry.
func TagOf(version int64, updated time.Time) Tag { return Tag{version, updated.UnixMilli()} }

// String returns the tag's form on the wire, without quotes.
func (t Tag) String() string {
	s := strconv.FormatInt(t.Version, 10)
	if t.At != 0 {
		s += "-" + strconv.FormatInt(t.At, 10)
	}
	return s
}

// ParseTag parses VERSION-MILLISECONDS or VERSION. Anything else is a tag that no entry has.
func ParseTag(s string) Tag {
	v, at, both := strings.Cut(s, "-")
	version, err := strconv.ParseUint(v, 10, 63)
	t := Tag{Version: int64(version)}
	if err == nil && both {
		var ms uint64
		ms, err = strconv.ParseUint(at, 10, 63)
		t.At = int64(ms)
	}
	if err != nil {
		return Tag{Version: Never}
	}
	return t
}

// matches reports whether the tag is that of the stored value.
func (t Tag) matches(found bool, has Tag) bool {
	switch t.Version {
	case Anything:
		return found
	case 0:
		return !found
	}
	return found && t.Version == has.Version && (t.At == 0 || t.At == has.At)
}

// A Cond is a condition of an Edit. The zero Cond always holds.
type Cond struct {
	Is  []Tag // the stored value has one of these, if there are any
	Not []Tag // and it has none of these
}

// IsZero reports whether the condition always holds.
func (c Cond) IsZero() bool { return len(c.Is) == 0 && len(c.Not) == 0 }

// Check returns an ErrConflict if the condition does not hold for the value stored under a name.
func (c Cond) Check(name string, found bool, has Tag) error {
	is, not := c.broken(found, has)
	switch {
	case is:
		wanted := make([]string, len(c.Is))
		for i, t := range c.Is {
			switch t.Version {
			case 0:
				wanted[i] = "absent"
			case Anything:
				wanted[i] = "there"
			case Never:
				wanted[i] = "at a version that it never had"
			default:
				wanted[i] = "at " + t.String()
			}
		}
		return refuse.As(ErrConflict, "%s is %s, not %s", name, state(found, has), strings.Join(wanted, " or "))
	case not:
		return refuse.As(ErrConflict, "%s exists already, %s", name, state(found, has))
	}
	return nil
}

// Holds reports whether Check returns nil.
func (c Cond) Holds(found bool, has Tag) bool {
	is, not := c.broken(found, has)
	return !is && !not
}

// broken returns the condition that an entry breaks.
func (c Cond) broken(found bool, has Tag) (is, not bool) {
	matches := func(t Tag) bool { return t.matches(found, has) }
	return len(c.Is) > 0 && !slices.ContainsFunc(c.Is, matches), slices.ContainsFunc(c.Not, matches)
}

func state(found bool, has Tag) string {
	if !found {
		return "absent"
	}
	return fmt.Sprintf("at version %d", has.Version)
}

// AppendJSON appends the edit as an object: that of its Op with the name and the condition,
// {"op":"reset","prefix":"gate/"}, or {"op":"restore","at":12,"prefix":""}, where at can be a time.
func (e Edit) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	if e.Reset {
		o.Text("op", "reset")
		o.Text("prefix", e.Prefix)
		return o.End()
	}
	if r := e.Restore; r != nil {
		o.Text("op", "restore")
		if r.Time.IsZero() {
			o.Int("at", r.Version)
		} else {
			o.Text("at", FormatTime(r.Time))
		}
		if r.Names != nil {
			o.Dst = scan.List(&r.Names, nil, func(s string, dst []byte) []byte { return scan.AppendString(dst, s) }).Write(o.Name("names"))
		}
		if r.Prefix != nil {
			o.Text("prefix", *r.Prefix)
		}
		return o.End()
	}
	o.Text("name", e.Name)
	if len(e.Cond.Is) == 1 {
		o.Text("if", e.Cond.Is[0].String())
	}
	if e.Seen != nil {
		o.Text("seen", e.Seen.String())
	}
	out := e.Op.AppendJSON(o.Dst)
	out[len(o.Dst)] = ',' // where the Op's object starts
	return out
}

// MarshalJSON returns the form of AppendJSON.
func (e Edit) MarshalJSON() ([]byte, error) { return e.AppendJSON(nil), nil }

// ReadEdit reads an edit strictly, in the form of AppendJSON. The error wraps value.ErrInvalid.
func ReadEdit(data []byte) (e Edit, err error) {
	var verb string
	var prefix, cond, seen []byte
	r := scan.New(data)
	err = r.Fields(value.MaxDepth, scan.Maybe("op", &verb), scan.Maybe("name", &e.Name), scan.Maybe("prefix", &prefix), scan.Maybe("if", &cond), scan.Maybe("seen", &seen))
	if err != nil {
		return e, refuse.As(value.ErrInvalid, "it can't be read: %v", err)
	}
	switch verb {
	case "reset":
		return readReset(data, prefix)
	case "restore":
		return readRestore(data)
	}
	if err = CheckName(e.Name); err != nil {
		return e, err
	}
	if cond != nil {
		tag, err := readTag("if", cond)
		if err != nil {
			return e, err
		}
		e.Cond = Cond{Is: []Tag{tag}}
	}
	if seen != nil {
		tag, err := readTag("seen", seen)
		if err != nil {
			return e, err
		}
		e.Seen = &tag
	}
	e.Op, err = value.ParseOp(data, "name", "if", "seen")
	if err == nil && e.Seen != nil && e.Op.Verb != value.Put {
		err = refuse.As(value.ErrInvalid, `"seen" belongs to a put, not to %s`, e.Op.Verb)
	}
	return e, err
}

func readReset(data, prefix []byte) (e Edit, err error) {
	r := scan.New(data)
	err = r.Object(func(member []byte) error {
		if m := string(member); m != "op" && m != "prefix" {
			return refuse.As(value.ErrInvalid, "the operation reset has no member %s; it has prefix", scan.Quote(m))
		}
		_, err := r.Raw(value.MaxDepth)
		return err
	})
	if err != nil {
		return e, err
	}
	e.Reset = true
	if prefix != nil {
		e.Prefix, err = scan.New(prefix).String()
	}
	if prefix == nil || err != nil {
		return e, refuse.As(value.ErrInvalid, `the operation reset needs "prefix", a text; an empty one means all names`)
	}
	return e, nil
}

func readRestore(data []byte) (e Edit, err error) {
	e.Restore = &Restore{}
	given := map[string]bool{}
	r := scan.New(data)
	err = r.Object(func(member []byte) (err error) {
		m := string(member)
		given[m] = true
		switch m {
		case "op":
			_, err = r.String()
		case "at":
			if r.Peek() == '"' {
				var text string
				if text, err = r.String(); err == nil {
					if e.Restore.Time, err = ParseTime([]byte(text)); err != nil {
						err = refuse.As(value.ErrInvalid, "%s is not a time in RFC 3339", scan.Quote(text))
					}
				}
			} else if e.Restore.Version, err = r.Int(); err == nil && e.Restore.Version < 0 {
				err = refuse.As(value.ErrInvalid, "version %d does not exist", e.Restore.Version)
			}
		case "names":
			e.Restore.Names = []string{}
			err = r.Array(func() error {
				name, err := r.String()
				if err == nil {
					err = CheckName(name)
				}
				e.Restore.Names = append(e.Restore.Names, name)
				return err
			})
		case "prefix":
			e.Restore.Prefix = new(string)
			*e.Restore.Prefix, err = r.String()
		default:
			err = refuse.As(value.ErrInvalid, "the operation restore has no member %s; it has at, names, prefix", scan.Quote(m))
		}
		return err
	})
	switch {
	case errors.Is(err, value.ErrInvalid):
		return e, err
	case err != nil:
		return e, refuse.As(value.ErrInvalid, "the operation restore can't be read: %v", err)
	case !given["at"], !given["names"] && !given["prefix"]:
		return e, refuse.As(value.ErrInvalid, `the operation restore needs "at", a version or a time, and "names" or "prefix"; an empty prefix means all names`)
	}
	return e, nil
}

// readTag reads the tag of an entry: an ETag, a version, or 0 for absent.
func readTag(member string, raw []byte) (Tag, error) {
	text := string(raw)
	if raw[0] == '"' {
		text, _ = scan.New(raw).String()
	}
	t := ParseTag(strings.Trim(text, `"`))
	if t.Version == Never {
		return t, refuse.As(value.ErrInvalid, "%s is %s; it must be an ETag, a version, or 0 for absent", scan.Quote(member), raw)
	}
	return t, nil
}

// NewerThan reports whether an entry with tag t was stored after one with the tag other, or after it was
// absent.
func (t Tag) NewerThan(other Tag) bool {
	return t.Version > other.Version || other.At != 0 && t.At > other.At
}
