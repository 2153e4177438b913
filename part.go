package pantry

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// At returns a key of the same family with the same default and rules. Its name is name + "/" +
// part. part is any text, for example a title that a user typed. A byte that can't be in a part of
// a name is written as % and two hex digits; Part decodes it. A name of over 256 bytes is
// ErrInvalid when it is written, and reads as the default.
func (k Key[T]) At(part string) Key[T] { return k.member(escapePart(part)) }

// Part returns the part that At was called with for the name of an entry, and reports whether At
// makes that name.
func (k Key[T]) Part(name string) (part string, ok bool) {
	part, ok = strings.CutPrefix(name, k.Name()+"/")
	if !ok || strings.Contains(part, "/") {
		return "", false
	}
	return unescapePart(part), true
}

// member returns the key of a name in the family.
func (k Key[T]) member(part string) Key[T] {
	d := *k.definition()
	if d.family == "" {
		d.family = d.name
	}
	d.name += "/" + part
	d.unnameable = CheckName(d.name)
	return Key[T]{&d}
}

// escapePart makes a valid part of a name.
func escapePart(part string) string {
	switch part {
	case "":
		return "%"
	case ".", "..":
		return strings.ReplaceAll(part, ".", "%2E")
	}
	legal := func(r rune) bool { return r != '%' && r != '/' && r != utf8.RuneError && !unicode.IsControl(r) }
	if strings.IndexFunc(part, func(r rune) bool { return !legal(r) }) < 0 {
		return part
	}
	var b strings.Builder
	for i := 0; i < len(part); {
		r, size := utf8.DecodeRuneInString(part[i:])
		if legal(r) {
			b.WriteString(part[i : i+size])
		} else {
			for _, c := range []byte(part[i : i+size]) {
				fmt.Fprintf(&b, "%%%02X", c)
			}
		}
		i += size
	}
	return b.String()
}

// unescapePart is the inverse. It leaves anything that escapePart does not make.
func unescapePart(part string) string {
	if part == "%" {
		return ""
	}
	var b strings.Builder
	for i := 0; i < len(part); i++ {
		if part[i] == '%' && i+2 < len(part) {
			var c byte
			if _, err := fmt.Sscanf(part[i+1:i+3], "%02X", &c); err == nil {
				b.WriteByte(c)
				i += 2
				continue
			}
		}
		b.WriteByte(part[i])
	}
	return b.String()
}
