// Package value holds the typed data that devices and boards share: the kinds, exact conversions,
// the JSON form, and the operations on values.
//
// A Value is one datum of one Kind: bool, int (64 bit), float (64 bit), text, bytes, time, list or
// map, or sealed, which is encrypted bytes. The kinds are distinct on purpose: 5 and 5.0 are two
// values, and "5" is a third. Convert converts a value if that loses nothing.
//
//	v := value.Int(420)
//	v.Kind()                    // int
//	v.AppendJSON(nil)           // 420
//
// An Op is a change of a value, as data. Everything that changes a value is an Op. Its Apply
// returns the changed value.
//
//	take := value.Op{Verb: value.Add, Operand: value.Int(-10), Min: value.Int(0)}
//	now, _, err := take.Apply(v) // 410
//
// JSON alone can't distinguish the kinds, so files and the wire store the kind beside the value:
// {"kind":"float","value":5.0}. Inside a list or a map, a number is an int if it has neither a
// point nor an exponent, and null is allowed. Bytes, times and sealed values are not allowed there.
//
// Values are immutable. Everything in this package is safe for concurrent use.
package value
