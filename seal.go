package pantry

import (
	"fmt"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A Sealer encrypts the values of sealed keys. context is not secret; what was
// sealed with one context must not open with another. It must be safe for concurrent use.
type Sealer interface {
	Seal(plain, context []byte) (sealed []byte, err error)
	Open(sealed, context []byte) (plain []byte, err error)
}

// Seal tells Open how to encrypt the values of keys that are Sealed. Package seal
// has a Sealer; it is a package of its own so that other apps don't carry it.
func Seal(s Sealer) Option { return func(o *options) { o.sealer = s } }

// Sealed keeps the values encrypted in the file. The namespace must be opened
// with Seal, else writing and reading are ErrSealed. The namespace's name and
// the entry's go into the encryption, so that a sealed value can't be moved
// elsewhere; renaming either makes it unreadable. Names, kinds of other keys and
// sizes are not secret.
//
// What is stored in the clear when a key becomes sealed is still read, and
// reported as a Problem; a Set seals it and leaves nothing of it in the file.
func (k Key[T]) Sealed() Key[T] {
	return k.changed(func(d *definition[T]) { d.sealed = true })
}

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

// unseal decrypts what seal made.
func (ns *Namespace) unseal(name string, v value.Value) (value.Value, error) {
	if ns.sealer == nil {
		return value.Value{}, fmt.Errorf("%w: the namespace was opened without Seal", ErrSealed)
	}
	b, _ := v.AsSealed()
	plain, err := ns.sealer.Open(b, sealContext(ns.name, name))
	if err != nil {
		return value.Value{}, fmt.Errorf("%w: it can't be opened; is it another key, or was it moved here?", ErrSealed)
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
	return value.Value{}, fmt.Errorf("%w: what was sealed is no value", ErrSealed)
}

// inTheClear says whether a record of a sealed key is not sealed.
func (b *binding[T]) inTheClear(rec *ledger.Record) bool {
	return b.d.sealed && rec.Found() && rec.Value.Kind() != value.KindSealed
}

// plain gives what a record means to a key that may be sealed.
func (b *binding[T]) plain(rec *ledger.Record) (value.Value, error) {
	switch sealed := rec.Value.Kind() == value.KindSealed; {
	case sealed && !b.d.sealed:
		return value.Value{}, fmt.Errorf("%w: the entry is sealed, and the key is not; declare it Sealed", ErrSealed)
	case sealed:
		return b.ns.unseal(b.d.name, rec.Value)
	case b.d.sealed && rec.Found():
		b.ns.prob.report(b.d.name, rec, fmt.Errorf("%w: the key is sealed, and its value stands in the file in the clear; set it to seal it", ErrSealed))
	}
	return rec.Value, nil
}

// stored gives the value to store for val, where old stands now. The same
// value sealed once more would look like a change.
func (b *binding[T]) stored(val value.Value, old *ledger.Record) (value.Value, error) {
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
