package keycode

import (
	"fmt"
	"go/format"
	"strings"
	"unicode"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Go returns a program that declares the keys, and reads, writes and watches one of them.
func (p Place) Go() ([]byte, error) {
	var b strings.Builder
	b.WriteString("package main\n\nimport (\n\t\"context\"\n\t\"fmt\"\n\t\"log\"\n")
	if p.Board {
		b.WriteString("\t\"os\"\n")
	}
	if p.has(value.KindTime) {
		b.WriteString("\t\"time\"\n")
	}
	b.WriteString("\n\t\"github.com/small-pantry/pantry\"\n")
	if p.Board {
		b.WriteString("\t\"github.com/small-pantry/pantry/board\"\n")
	}
	b.WriteString(")\n\n")
	var names []string
	var vars strings.Builder
	for _, k := range p.keys() {
		name := goName(k.Name)
		if k.Family {
			if fields := p.fields(k); fields != nil {
				fmt.Fprintf(&b, "// %s is a record of %s.\ntype %[1]s struct {\n", goRecord(k.Name), k.Name)
				for _, f := range fields {
					fmt.Fprintf(&b, "\t%s %s `pantry:%q`\n", goName(f.name), goKind(f.value), f.name)
				}
				b.WriteString("}\n\n")
			}
		}
		fmt.Fprintf(&vars, "\t%s = %s\n", name, p.goKey(k))
		names = append(names, name)
	}
	fmt.Fprintf(&b, "var (\n%s)\n\nfunc main() {\n\tctx := context.Background()\n", vars.String())
	declare := "pantry.Declare(" + strings.Join(names, ", ") + ")"
	if p.Board {
		fmt.Fprintf(&b, "\tb, err := board.Join(os.Getenv(\"BOARD_LINK\"), board.Declare(%s)) // the link is a secret\n", strings.Join(names, ", "))
		b.WriteString("\tif err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tdefer b.Close()\n")
	} else {
		fmt.Fprintf(&b, "\tns, err := pantry.Open(%q, %q, %s)\n\tif err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tdefer ns.Close()\n", p.Dir, p.Name, declare)
	}
	if k, ok := p.first(); ok {
		name := goName(k.Name)
		if p.Board {
			fmt.Fprintf(&b, "\tv := board.On(b, %s)\n\tif err := b.Ready(ctx); err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tif err := v.Set(ctx, v.Get()); err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tfor state := range v.Watch(ctx) {\n\t\tfmt.Println(state.Value, state.Phase)\n\t}\n", name)
		} else {
			fmt.Fprintf(&b, "\tv := %s.In(ns)\n\tif err := v.Set(v.Get()); err != nil {\n\t\tlog.Fatal(err)\n\t}\n\tfor x := range v.Watch(ctx) {\n\t\tfmt.Println(x)\n\t}\n", name)
		}
	} else {
		b.WriteString("\tfmt.Println(ctx.Err())\n")
	}
	b.WriteString("}\n")
	code, err := format.Source([]byte(b.String()))
	if err != nil {
		return nil, fmt.Errorf("write the keys as Go: %w", err)
	}
	return code, nil
}

// goRecord returns the name of the struct for the records of a collection: plantings has Planting.
func goRecord(name string) string {
	one := goName(strings.TrimSuffix(name, "s"))
	if one == goName(name) {
		one += "Record"
	}
	return one
}

// goKind returns the Go type of a member of a record.
func goKind(v value.Value) string {
	switch v.Kind() {
	case value.KindBool:
		return "bool"
	case value.KindInt:
		return "int"
	case value.KindFloat:
		return "float64"
	case value.KindText:
		return "string"
	case value.KindList:
		return "[]" + goType(v.Items())
	}
	return "any"
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

func (p Place) goKey(k entry.Declared) string {
	code := ""
	switch {
	case k.Family:
		record := goRecord(k.Name)
		if p.fields(k) == nil {
			record = "map[string]any" // a declaration does not describe the fields, and no record is stored
			if k.Kind != value.KindMap {
				record = goKind(sampleOf(k.Kind))
			}
		}
		code = fmt.Sprintf("pantry.RecordsOf[%s](%q)", record, k.Name)
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
		code = fmt.Sprintf("pantry.List[%s](%s)", p.itemType(k), strings.Join(items, ", "))
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

// itemType returns the type of a list's items, from its default or what is stored.
func (p Place) itemType(k entry.Declared) string {
	items := k.Default.Items()
	if stored, ok := p.stored(k.Name); ok && len(items) == 0 {
		items = stored.Items()
	}
	if len(items) == 0 {
		return "string"
	}
	return goType(items)
}
