// Package gocode writes declared keys as Go declarations.
package gocode

import (
	"fmt"
	"go/format"
	"strings"
	"unicode"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Keys returns keys as the declarations of an app.
func Keys(keys []entry.Declared) ([]byte, error) {
	var b strings.Builder
	b.WriteString("var (\n")
	for _, k := range keys {
		fmt.Fprintf(&b, "\t%s = %s\n", goName(k.Name), goKey(k))
	}
	b.WriteString(")\n")
	code, err := format.Source([]byte(b.String()))
	if err != nil {
		return nil, fmt.Errorf("write the keys as Go: %w", err)
	}
	return code, nil
}

// goName converts reminder-hour to ReminderHour, and tank/litres to TankLitres.
func goName(name string) string {
	var b strings.Builder
	up := true
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			up = true
			continue
		case up:
			r = unicode.ToUpper(r)
		}
		if b.Len() == 0 && !unicode.IsLetter(r) {
			b.WriteString("Key")
		}
		b.WriteRune(r)
		up = false
	}
	return b.String()
}

func goKey(k entry.Declared) string {
	code := ""
	switch {
	case k.Family:
		// A declaration does not describe the fields of a record: the struct is the app's own.
		code = fmt.Sprintf("pantry.RecordsOf[%s](%q)", goName(strings.TrimSuffix(k.Name, "s")), k.Name)
	case k.Kind == value.KindSealed:
		code = fmt.Sprintf("pantry.Text(%q, \"\").Sealed()", k.Name)
	case len(k.Choices) > 0:
		first := k.Default.String()
		items := []string{fmt.Sprintf("%q", k.Name), fmt.Sprintf("%q", first)}
		for _, c := range k.Choices {
			if c != first {
				items = append(items, fmt.Sprintf("%q", c))
			}
		}
		code = fmt.Sprintf("pantry.OneOf(%s)", strings.Join(items, ", "))
	case k.Kind == value.KindList:
		items := []string{fmt.Sprintf("%q", k.Name)}
		for _, item := range k.Default.Items() {
			items = append(items, goLiteral(item))
		}
		code = fmt.Sprintf("pantry.List[%s](%s)", goType(k.Default.Items()), strings.Join(items, ", "))
	case k.Kind == value.KindMap:
		code = fmt.Sprintf("pantry.Map(%q, %s)", k.Name, goMap(k.Default, goType(members(k.Default))))
	default:
		constructor := strings.ToUpper(k.Kind.String()[:1]) + k.Kind.String()[1:]
		code = fmt.Sprintf("pantry.%s(%q, %s)", constructor, k.Name, goLiteral(k.Default))
		if !k.Min.IsZero() {
			code += fmt.Sprintf(".Between(%s, %s)", goLiteral(k.Min), goLiteral(k.Max))
		}
	}
	if k.Keep > 0 {
		code += fmt.Sprintf(".Keep(%d)", k.Keep)
	}
	if k.About != "" {
		code += fmt.Sprintf(".About(%q)", k.About)
	}
	return code
}

// goLiteral returns a value as a Go literal.
func goLiteral(v value.Value) string {
	switch v.Kind() {
	case value.KindNone, value.KindNull:
		return "nil"
	case value.KindText:
		return fmt.Sprintf("%q", v.String())
	case value.KindBytes:
		b, _ := v.AsBytes()
		if len(b) == 0 {
			return "nil"
		}
		return fmt.Sprintf("[]byte(%q)", b)
	case value.KindTime:
		t, _ := v.AsTime()
		if t.IsZero() {
			return "time.Time{}"
		}
		return fmt.Sprintf("time.Date(%d, %d, %d, %d, %d, %d, %d, time.UTC)", t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond())
	case value.KindList:
		var items []string
		for _, item := range v.Items() {
			items = append(items, goLiteral(item))
		}
		return "[]any{" + strings.Join(items, ", ") + "}"
	case value.KindMap:
		return goMap(v, "any")
	}
	return v.String()
}

func goMap(v value.Value, element string) string {
	var items []string
	for _, m := range v.Members() {
		items = append(items, fmt.Sprintf("%q: %s", m.Name, goLiteral(m.Value)))
	}
	return "map[string]" + element + "{" + strings.Join(items, ", ") + "}"
}

func members(v value.Value) []value.Value {
	var all []value.Value
	for _, m := range v.Members() {
		all = append(all, m.Value)
	}
	return all
}

// goType returns a type that can hold all of some values.
func goType(all []value.Value) string {
	names := map[value.Kind]string{value.KindBool: "bool", value.KindInt: "int", value.KindFloat: "float64", value.KindText: "string"}
	kind := value.KindNone
	for _, v := range all {
		if kind != value.KindNone && v.Kind() != kind {
			return "any"
		}
		kind = v.Kind()
	}
	if name := names[kind]; name != "" {
		return name
	}
	return "any"
}
