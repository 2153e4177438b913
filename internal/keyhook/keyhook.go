// Package keyhook lets package board ask about a key what its users need not see. Package pantry sets
// the functions.
package keyhook

// Checks reports whether a pantry.Key has a rule of the app's own (Check), which no operation carries.
var Checks func(key any) bool
