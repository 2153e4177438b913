package keycode

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Swift returns a class that declares the keys, and a function that reads, writes and watches one of
// them.
func (p Place) Swift() ([]byte, error) {
	var b strings.Builder
	b.WriteString("import Foundation\n\n")
	for _, k := range p.keys() {
		if len(k.Choices) > 0 && !k.Family {
			var cases []string
			for _, c := range k.Choices {
				cases = append(cases, fmt.Sprintf("%s = %s", camel(c), quoted(c)))
			}
			fmt.Fprintf(&b, "enum %s: String, CaseIterable { case %s }\n", goName(k.Name), strings.Join(cases, ", "))
		}
		if fields := p.fields(k); k.Family && fields != nil {
			var members []string
			for _, f := range fields {
				members = append(members, "var "+camel(f.name)+": "+swiftTypes[kindOf(f.value)])
			}
			fmt.Fprintf(&b, "struct %s: Codable { %s }\n", goRecord(k.Name), strings.Join(members, "; "))
		}
	}
	b.WriteString("\nfinal class App: Declared {\n")
	for _, k := range p.keys() {
		code := p.swiftKey(k)
		if code == "" {
			fmt.Fprintf(&b, "    // %s (%s) can't be declared in Swift as it is; read it with the Go package.\n", k.Name, k.Says())
			continue
		}
		fmt.Fprintf(&b, "    let %s = %s\n", camel(k.Name), code)
	}
	b.WriteString("}\n")
	if k, ok := p.first(); ok && p.swiftKey(k) != "" {
		name := camel(k.Name)
		if p.Board {
			fmt.Fprintf(&b, "\n// The link is a secret.\nfunc use(_ link: String) async throws {\n    let app = App()\n    let board = try await Board.join(link, app)\n    let v = try board[app.%s]\n    try await v.set(v.value)\n    for await x in v.changes { print(x.value, x.phase) }\n}\n", name)
		} else {
			fmt.Fprintf(&b, "\n// directory is one of the app.\nfunc use(_ directory: String) async throws {\n    let app = App()\n    let pantry = try await Pantry.open(directory, %s, app)\n    let v = try pantry[app.%s]\n    try await v.set(v.value)\n    for await x in v.changes { print(x) }\n}\n", quoted(p.Name), name)
		}
	}
	return []byte(b.String()), nil
}

var swiftTypes = map[string]string{"bool": "Bool", "long": "Int", "double": "Double", "time": "Date", "text": "String"}

func (p Place) swiftKey(k entry.Declared) string {
	args := []string{quoted(k.Name)}
	add := func(format string, a ...any) { args = append(args, fmt.Sprintf(format, a...)) }
	bounds := func() {
		if !k.Min.IsZero() {
			add("in: %s...%s", k.Min, k.Max)
		}
	}
	method := ""
	switch {
	case k.Family:
		if p.fields(k) == nil {
			return ""
		}
		return fmt.Sprintf("RecordsKey<%s>(%s)", goRecord(k.Name), quoted(k.Name))
	case losesDefault(k):
		return ""
	case len(k.Choices) > 0:
		method = "choice"
		add("%s.%s", goName(k.Name), camel(k.Default.String()))
	case k.Kind == value.KindInt:
		method = "int"
		add("%s", k.Default)
		bounds()
	case k.Kind == value.KindFloat:
		method = "double"
		add("%s", k.Default)
		bounds()
	case k.Kind == value.KindBool:
		method = "bool"
		add("%s", k.Default)
	case k.Kind == value.KindSealed:
		method = "text"
		add("sealed: true")
	case k.Kind == value.KindText:
		method = "text"
		add("%s", quoted(k.Default.String()))
	case k.Kind == value.KindBytes:
		method = "bytes"
	case k.Kind == value.KindTime:
		method = "time"
		if at, ok := k.Default.AsTime(); ok {
			add("Date(timeIntervalSince1970: %.3f)", float64(at.UnixMilli())/1000)
		}
	case k.Kind == value.KindList && itemKinds[p.itemType(k)] != "":
		method = "list"
		add("of: .%s", strings.Replace(itemKinds[p.itemType(k)], "long", "int", 1))
		if k.Keep > 0 {
			add("keep: %d", k.Keep)
		}
	default:
		return ""
	}
	return "Key." + method + "(" + strings.Join(args, ", ") + ")"
}
