package pantry

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A Sealer encrypts the values of sealed keys. context is not secret. A value that was sealed with
// one context must not open with another. It must be safe for concurrent use.
type Sealer interface {
	Seal(plain, context []byte) (sealed []byte, err error)
	Open(sealed, context []byte) (plain []byte, err error)
}

// Seal sets how the values of Sealed keys are encrypted. Package seal has a Sealer. It is a
// separate package, so that other apps do not include it.
func Seal(s Sealer) Option { return func(o *options) { o.sealer = s } }

func sealContext(namespace, name string) []byte {
	return []byte("small-pantry/1\x00" + namespace + "\x00" + name)
}

// seal encrypts a value with its kind.
func (ns *Namespace) seal(name string, v value.Value) (value.Value, error) {
	if ns.sealer == nil {
		return value.Value{}, fmt.Errorf("%w: the key is sealed, and the namespace was opened without Seal", ErrSealed)
	}
	plain := v.AppendJSON([]byte(v.Kind().String() + " "))
	b, err := ns.sealer.Seal(plain, sealContext(ns.name, name))
	if err != nil {
		return value.Value{}, fmt.Errorf("%w: %w", ErrSealed, err)
	}
	return value.Sealed(b), nil
}

// unseal decrypts the result of seal.
func (ns *Namespace) unseal(name string, v value.Value) (value.Value, error) {
	if ns.sealer == nil {
		return value.Value{}, fmt.Errorf("%w: the namespace was opened without Seal", ErrSealed)
	}
	b, _ := v.AsSealed()
	plain, err := ns.sealer.Open(b, sealContext(ns.name, name))
	if err != nil {
		return value.Value{}, fmt.Errorf("%w: it can't be opened: the encryption key is another one, or the value was moved here", ErrSealed)
	}
	for i, c := range plain {
		if c == ' ' {
			kind, err := value.ParseKind(string(plain[:i]))
			if err != nil {
				return value.Value{}, err
			}
			return value.Parse(kind, plain[i+1:])
		}
	}
	return value.Value{}, fmt.Errorf("%w: the sealed bytes hold no value", ErrSealed)
}

// inTheClear reports whether a record of a sealed key is not encrypted.
func (b *binding) inTheClear(rec *ledger.Record) bool {
	return b.d.sealed && rec.Found() && rec.Value.Kind() != value.KindSealed
}

// plain returns what a record means to a key that can be sealed.
func (b *binding) plain(rec *ledger.Record) (value.Value, error) {
	switch sealed := rec.Value.Kind() == value.KindSealed; {
	case sealed && !b.d.sealed:
		return value.Value{}, fmt.Errorf("%w: the entry is sealed, and the key is not; declare it Sealed", ErrSealed)
	case sealed:
		return b.ns.unseal(b.d.name, rec.Value)
	case b.d.sealed && rec.Found():
		b.ns.prob.report(b.d.name, rec, fmt.Errorf("%w: the key is sealed, and its value is in the file in the clear; set it to seal it", ErrSealed))
	}
	return rec.Value, nil
}

// stored returns the value to store for val in place of old. Sealing the same value again would
// look like a change.
func (b *binding) stored(val value.Value, old *ledger.Record) (value.Value, error) {
	if !b.d.sealed || val.IsZero() {
		return val, nil
	}
	if old.Value.Kind() == value.KindSealed {
		if have, err := b.ns.unseal(b.d.name, old.Value); err == nil && value.Equal(have, val) {
			return old.Value, nil
		}
	}
	return b.ns.seal(b.d.name, val)
}
