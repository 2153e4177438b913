// Package keyhook lets package board ask about a key what its users need not see. Package pantry sets
// the functions.
package keyhook

import "github.com/small-pantry/pantry/value"

// Checks reports whether a pantry.Key has a rule of the app's own (Check), which no operation carries.
var Checks func(key any) bool

// Check returns the function that checks a stored value by a pantry.Key that has such a rule; else nil.
var Check func(key any) func(value.Value) error

// Unkept says what of a key's values does not survive being stored, or returns "".
var Unkept func(key any) string

// Part returns the part of an entry's name for the id of a record of a pantry.RecordsKey, and ID the id
// for such a part.
var (
	Part func(key any, id string) string
	ID   func(key any, part string) string
)
