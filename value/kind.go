package value

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/refuse"
)

// A Kind says what sort of datum a Value is.
type Kind uint8

// The kinds. None is the kind of the zero Value: no value at all. Null is
// JSON's null, which may stand inside a list or a map only.
const (
	KindNone Kind = iota
	KindBool
	KindInt   // 64 bits, signed
	KindFloat // 64 bits, IEEE 754
	KindText  // UTF-8
	KindBytes
	KindTime // nanoseconds, UTC, years 0 to 9999
	KindList
	KindMap // names are text, each once
	KindSealed
	KindNull
)

var kindNames = [...]string{"none", "bool", "int", "float", "text", "bytes", "time", "list", "map", "sealed", "null"}

// String gives the kind's name as files and the wire spell it.
func (k Kind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return fmt.Sprintf("kind(%d)", uint8(k))
}

// KindNamed gives the kind of a name, and KindNone for a name that ParseKind
// refuses.
func KindNamed(name []byte) Kind {
	for k := KindBool; k <= KindSealed; k++ {
		if kindNames[k] == string(name) {
			return k
		}
	}
	return KindNone
}

// MarshalText gives the kind's name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the kind's name.
func (k *Kind) UnmarshalText(name []byte) (err error) {
	*k, err = ParseKind(string(name))
	return err
}

// Number says whether k is int or float.
func (k Kind) Number() bool { return k == KindInt || k == KindFloat }

// Storable says whether an entry can be of this kind.
func (k Kind) Storable() bool { return k >= KindBool && k <= KindSealed }

// ParseKind reads a kind's name. It knows the kinds that an entry can have:
// bool, int, float, text, bytes, time, list, map and sealed.
func ParseKind(name string) (Kind, error) {
	if k := KindNamed([]byte(name)); k != KindNone {
		return k, nil
	}
	return KindNone, refuse.As(ErrInvalid, "there is no kind %q: use bool, int, float, text, bytes, time, list, map or sealed", name)
}
