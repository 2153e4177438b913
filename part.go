package pantry

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

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
