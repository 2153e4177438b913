// Package fieldname names the fields of structs as they are stored.
package fieldname

import (
	"reflect"
	"strings"
	"unicode"
)

// Of returns the stored name of a field: the tag pantry:"…", else the tag json:"…", else the field's name
// in small letters with hyphens: ReminderHour is reminder-hour. stored is false if the tag excludes the
// field.
func Of(name string, tag reflect.StructTag) (as string, stored bool) {
	as, ok := tag.Lookup("pantry")
	if !ok {
		as, _, _ = strings.Cut(tag.Get("json"), ",")
	}
	switch as {
	case "-":
		return "", false
	case "":
		return kebab(name), true
	}
	return as, true
}

// kebab converts ReminderHour to reminder-hour and TotalKg to total-kg. A run of capitals is one
// word.
func kebab(name string) string {
	var b strings.Builder
	runes := []rune(name)
	for i, r := range runes {
		if unicode.IsUpper(r) && i > 0 && (!unicode.IsUpper(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])) {
			b.WriteByte('-')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return b.String()
}
