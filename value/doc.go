// Package value holds the typed data that devices and boards share: the
// kinds, exact conversions, the JSON form, and the operations on values.
//
// A Value is one datum of one Kind: bool, int (64 bit), float (64 bit), text,
// bytes, time, list or map; or sealed, which is bytes that somebody encrypted.
// The kinds are kept apart on purpose: 5 and 5.0 are two values, and "5" is a
// third. Nothing converts by itself; Convert does where nothing is lost.
//
//	v := value.Int(420)
//	v.Kind()                    // int
//	v.AppendJSON(nil)           // 420
//
// An Op is a change of a value, as data: whatever changes a value anywhere is
// one, and its Apply says what it makes of the value.
//
//	take := value.Op{Verb: value.Add, Operand: value.Int(-10), Min: value.Int(0)}
//	now, _, err := take.Apply(v) // 410
//
// JSON as such can't tell the kinds apart, so a value stands beside its kind
// in files and on the wire: {"kind":"float","value":5.0}. Inside a list or a
// map, a number is an int when it has neither a point nor an exponent, and
// null is allowed; bytes, times and sealed values can't stand there.
//
// Values can't be changed, and everything here is safe for concurrent use.
package value
