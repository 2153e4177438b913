package value

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/refuse"
)

// A Kind is the type of a Value.
type Kind uint8

// The kinds. KindNone is the kind of the zero Value. KindNull is JSON's null, which is allowed only
// inside a list or a map.
const (
	KindNone Kind = iota
	KindBool
	KindInt   // 64 bits, signed
	KindFloat // 64 bits, IEEE 754
	KindText  // UTF-8
	KindBytes
	KindTime // nanoseconds, UTC, years 0 to 9999
	KindList
	KindMap // the names are text, each occurs once
	KindSealed
	KindNull
)

var kindNames = [...]string{"none", "bool", "int", "float", "text", "bytes", "time", "list", "map", "sealed", "null"}

// String returns the kind's name in files and on the wire.
func (k Kind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return fmt.Sprintf("kind(%d)", uint8(k))
}

// KindNamed returns the kind with a name, or KindNone for a name that ParseKind refuses.
func KindNamed(name []byte) Kind {
	for k := KindBool; k <= KindSealed; k++ {
		if kindNames[k] == string(name) {
			return k
		}
	}
	return KindNone
}

// MarshalText returns the kind's name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the kind's name.
func (k *Kind) UnmarshalText(name []byte) (err error) {
	*k, err = ParseKind(string(name))
	return err
}

// Number reports whether k is int or float.
func (k Kind) Number() bool { return k == KindInt || k == KindFloat }

// Storable reports whether an entry can have this kind.
func (k Kind) Storable() bool { return k >= KindBool && k <= KindSealed }

// ParseKind reads the name of a kind that an entry can have: bool, int, float, text, bytes, time,
// list, map or sealed.
func ParseKind(name string) (Kind, error) {
	if k := KindNamed([]byte(name)); k != KindNone {
		return k, nil
	}
	return KindNone, refuse.As(ErrInvalid, "there is no kind %q: use bool, int, float, text, bytes, time, list, map or sealed", name)
}
