package value

import (
	"errors"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/sorted"
)

// MaxDepth is the maximum nesting depth of lists and maps.
const MaxDepth = 64

var (
	// ErrWrongKind is returned if a value has another kind than required and can't be converted
	// exactly.
	ErrWrongKind = errors.New("wrong kind")
	// ErrInvalid is returned if something can't be read as a value, and for a value that can't be
	// stored: text that is not UTF-8, nesting over MaxDepth, or a number in a list that JSON can't
	// express.
	ErrInvalid = errors.New("invalid value")
	// ErrOutOfRange is returned if the result of an operation would exceed its bounds or 64 bits,
	// or would not be finite. It is also an ErrInvalid.
	ErrOutOfRange = refuse.As(ErrInvalid, "out of range")
	// ErrAbsent is returned if something does not exist: an item of a list, or an entry that a call
	// needs.
	ErrAbsent = errors.New("absent")
)

// A Value is one typed datum. It is immutable and safe for concurrent use. The zero Value means
// that there is no value.
type Value struct {
	_    [0]func() // lists can't be compared with ==; use Equal
	kind Kind
	nsec uint32 // time
	bits uint64 // bool, int, float; seconds of a time
	text string // text, bytes, sealed
	tree *tree  // list, map; nil if empty
}

// A tree holds the content of a list or a map.
type tree struct {
	items   []Value
	members []Member // sorted by name
}

// A Member is a named value of a map.
type Member struct {
	Name  string
	Value Value
}

// Bool returns a bool.
func Bool(b bool) Value {
	v := Value{kind: KindBool}
	if b {
		v.bits = 1
	}
	return v
}

// Int returns an int.
func Int(n int64) Value { return Value{kind: KindInt, bits: uint64(n)} }

// Float returns a float. NaN and the infinities are values.
func Float(f float64) Value { return Value{kind: KindFloat, bits: math.Float64bits(f)} }

// Text returns a text. Text that is not UTF-8 can't be stored: see Value.Check.
func Text(s string) Value { return Value{kind: KindText, text: s} }

// Bytes returns a value with a copy of b.
func Bytes(b []byte) Value { return Value{kind: KindBytes, text: string(b)} }

// Sealed returns a sealed value with a copy of b, which is encrypted already.
func Sealed(b []byte) Value { return Value{kind: KindSealed, text: string(b)} }

// Time returns a time. It keeps the moment and not the zone.
func Time(t time.Time) Value {
	return Value{kind: KindTime, bits: uint64(t.Unix()), nsec: uint32(t.Nanosecond())}
}

// Null returns a null, for an item of a list or a member of a map.
func Null() Value { return Value{kind: KindNull} }

// List returns a list with a copy of items.
func List(items ...Value) Value { return listOf(slices.Clone(items)) }

// Map returns a map of members. A name that occurs twice is an error.
func Map(members ...Member) (Value, error) {
	all := slices.Clone(members)
	sorted.By(all, byName)
	for i := 1; i < len(all); i++ {
		if all[i].Name == all[i-1].Name {
			return Value{}, refuse.As(ErrInvalid, "the name %q occurs twice in one map", all[i].Name)
		}
	}
	return mapOf(all), nil
}

func byName(a, b *Member) int { return strings.Compare(a.Name, b.Name) }

// Kind returns the kind of v.
func (v Value) Kind() Kind { return v.kind }

// IsZero reports whether v is the zero Value.
func (v Value) IsZero() bool { return v.kind == KindNone }

// AsBool returns the bool. ok is false for a value of another kind. The other As methods do the
// same for their kinds.
func (v Value) AsBool() (b, ok bool) { return v.kind == KindBool && v.bits != 0, v.kind == KindBool }

// AsInt returns the int. A float is not an int: see Convert.
func (v Value) AsInt() (n int64, ok bool) {
	if v.kind != KindInt {
		return 0, false
	}
	return int64(v.bits), true
}

// AsFloat returns the float. An int is not a float: see Convert.
func (v Value) AsFloat() (f float64, ok bool) {
	if v.kind != KindFloat {
		return 0, false
	}
	return v.float(), true
}

// AsText returns the text.
func (v Value) AsText() (s string, ok bool) {
	if v.kind != KindText {
		return "", false
	}
	return v.text, true
}

// AsBytes returns a copy of the bytes.
func (v Value) AsBytes() (b []byte, ok bool) {
	if v.kind != KindBytes {
		return nil, false
	}
	return []byte(v.text), true
}

// AsSealed returns a copy of the encrypted bytes.
func (v Value) AsSealed() (b []byte, ok bool) {
	if v.kind != KindSealed {
		return nil, false
	}
	return []byte(v.text), true
}

// AsTime returns the time in UTC.
func (v Value) AsTime() (t time.Time, ok bool) {
	if v.kind != KindTime {
		return time.Time{}, false
	}
	return time.Unix(int64(v.bits), int64(v.nsec)).UTC(), true
}

// Len returns the number of items of a list, members of a map, or bytes of a text, bytes or sealed
// value. It returns 0 for other kinds.
func (v Value) Len() int {
	switch v.kind {
	case KindList:
		return len(v.items())
	case KindMap:
		return len(v.members())
	}
	return len(v.text)
}

func (v Value) items() []Value {
	if v.tree == nil {
		return nil
	}
	return v.tree.items
}

func (v Value) members() []Member {
	if v.tree == nil {
		return nil
	}
	return v.tree.members
}

func (v Value) float() float64    { return math.Float64frombits(v.bits) }
func (v Value) same(w Value) bool { return v.bits == w.bits && v.nsec == w.nsec && v.text == w.text }

func listOf(items []Value) Value {
	v := Value{kind: KindList}
	if len(items) > 0 {
		v.tree = &tree{items: items}
	}
	return v
}

func mapOf(members []Member) Value {
	v := Value{kind: KindMap}
	if len(members) > 0 {
		v.tree = &tree{members: members}
	}
	return v
}

// Item returns item i of a list. It panics if there is none.
func (v Value) Item(i int) Value { return v.items()[i] }

// Items returns the items of a list in a new slice.
func (v Value) Items() []Value { return slices.Clone(v.items()) }

// Members returns the members of a map in a new slice, in byte order of their names.
func (v Value) Members() []Member { return slices.Clone(v.members()) }

// Member returns the member of a map with this name.
func (v Value) Member(name string) (x Value, found bool) {
	members := v.members()
	i, found := slices.BinarySearchFunc(members, name, func(m Member, name string) int { return strings.Compare(m.Name, name) })
	if !found {
		return Value{}, false
	}
	return members[i].Value, true
}

// Equal reports whether two values have the same kind and are equal. 5 is not 5.0. NaN equals NaN.
// -0.0 equals 0.0. Lists compare in order, maps in any order.
func Equal(a, b Value) bool {
	if a.kind != b.kind {
		return false
	}
	switch a.kind {
	case KindFloat:
		x, y := a.float(), b.float()
		return x == y || x != x && y != y
	case KindList:
		return slices.EqualFunc(a.items(), b.items(), Equal)
	case KindMap:
		return slices.EqualFunc(a.members(), b.members(), func(m, n Member) bool {
			return m.Name == n.Name && Equal(m.Value, n.Value)
		})
	}
	return a.same(b)
}

// Compare orders two values: numbers by size, also of different kinds, text and bytes by bytes,
// times by moment. ok is false for other kinds, for NaN, and for kinds that have no common order.
func Compare(a, b Value) (order int, ok bool) {
	switch {
	case a.kind.Number() && b.kind.Number():
		return compareNumbers(a, b)
	case a.kind != b.kind:
		return 0, false
	case a.kind == KindText, a.kind == KindBytes:
		return strings.Compare(a.text, b.text), true
	case a.kind == KindTime:
		x, _ := a.AsTime()
		y, _ := b.AsTime()
		return x.Compare(y), true
	}
	return 0, false
}

func compareNumbers(a, b Value) (int, bool) {
	if a.kind == KindInt && b.kind == KindInt {
		x, y := int64(a.bits), int64(b.bits)
		return cmp(x < y, x > y), true
	}
	if a.kind == KindFloat && b.kind == KindFloat {
		x, y := a.float(), b.float()
		return cmp(x < y, x > y), x == x && y == y
	}
	if a.kind == KindFloat {
		order, ok := compareNumbers(b, a)
		return -order, ok
	}
	// An int against a float. Up to 2^53 the int is exact as a float. Beyond that a float has no
	// fraction, so the float converts to an int.
	n, f := int64(a.bits), b.float()
	switch {
	case f != f:
		return 0, false
	case f >= 1<<63:
		return -1, true
	case f < -1<<63:
		return 1, true
	}
	if whole := int64(f); n != whole {
		return cmp(n < whole, n > whole), true
	}
	frac := f - math.Trunc(f)
	return cmp(frac > 0, frac < 0), true
}

func cmp(less, more bool) int {
	switch {
	case less:
		return -1
	case more:
		return 1
	}
	return 0
}

// Check returns an error that wraps ErrInvalid if v can't be stored as an entry.
func (v Value) Check() error {
	if !v.kind.Storable() {
		return refuse.As(ErrInvalid, "%s can't be stored by itself", v.kind)
	}
	return v.check(MaxDepth, false)
}

func (v Value) check(depth int, inside bool) error {
	switch v.kind {
	case KindText:
		return checkText(v.text)
	case KindTime:
		if t, _ := v.AsTime(); t.Year() < 0 || t.Year() > 9999 {
			return refuse.As(ErrInvalid, "the year %d is not within 0 and 9999", t.Year())
		}
	case KindFloat:
		if f := v.float(); inside && (f != f || math.IsInf(f, 0)) {
			return refuse.As(ErrInvalid, "%s is not allowed inside a list or a map", floatWord(f))
		}
	case KindList, KindMap:
		if depth == 0 {
			return refuse.As(ErrInvalid, "lists and maps are nested more than %d levels deep", MaxDepth)
		}
	}
	if inside && (v.kind == KindBytes || v.kind == KindTime || v.kind == KindSealed || v.kind == KindNone) {
		return refuse.As(ErrInvalid, "%s is not allowed inside a list or a map: use text", v.kind)
	}
	for _, item := range v.items() {
		if err := item.check(depth-1, true); err != nil {
			return err
		}
	}
	for _, m := range v.members() {
		if err := checkText(m.Name); err != nil {
			return err
		}
		if err := m.Value.check(depth-1, true); err != nil {
			return err
		}
	}
	return nil
}

func checkText(s string) error {
	if utf8.ValidString(s) {
		return nil
	}
	for i, r := range s {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return refuse.As(ErrInvalid, "the text is not UTF-8 at byte %d; store it as bytes", i)
			}
		}
	}
	return nil
}
