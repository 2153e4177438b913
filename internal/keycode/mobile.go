package keycode

import (
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Kotlin returns a class that declares the keys, and functions that read, write and watch one of them.
func (p Place) Kotlin() ([]byte, error) {
	var b strings.Builder
	b.WriteString("import java.time.Instant\nimport kotlinx.coroutines.flow.*\nimport pantry.*\n\n")
	for _, k := range p.keys() {
		if len(k.Choices) > 0 && !k.Family {
			fmt.Fprintf(&b, "enum class %s { %s }\n", goName(k.Name), strings.Join(constants(k.Choices), ", "))
		}
		if fields := p.fields(k); k.Family && fields != nil {
			var members []string
			for _, f := range fields {
				members = append(members, "val "+camel(f.name)+": "+kotlinType(f.value.Kind()))
			}
			fmt.Fprintf(&b, "data class %s(%s)\n", goRecord(k.Name), strings.Join(members, ", "))
		}
	}
	fmt.Fprintf(&b, "\nclass App : Keys() {\n")
	for _, k := range p.keys() {
		code := p.kotlinKey(k)
		if code == "" {
			fmt.Fprintf(&b, "    // %s is a %s, which the Kotlin package does not have; read it with the Go package.\n", k.Name, k.Says())
			continue
		}
		fmt.Fprintf(&b, "    val %s by %s\n", camel(k.Name), code)
	}
	b.WriteString("}\n")
	if k, ok := p.first(); ok && p.kotlinKey(k) != "" {
		name := camel(k.Name)
		if p.Board {
			fmt.Fprintf(&b, "\n// The link is a secret.\nfun join(link: String, app: App): Board = Board.join(link, app)\n\nsuspend fun use(board: Board, app: App) {\n    val v = board[app.%s]\n    v.set(v.value)\n    v.flow.collect { println(it) }\n}\n", name)
		} else {
			fmt.Fprintf(&b, "\n// dir is a directory of the app's own.\nfun open(dir: String, app: App): Pantry = Pantry.open(dir, %s, app)\n\nsuspend fun use(p: Pantry, app: App) {\n    val v = p[app.%s]\n    v.set(v.value)\n    v.flow.collect { println(it) }\n}\n", quoted(p.Name), name)
		}
	}
	return []byte(b.String()), nil
}

func constants(choices []string) (out []string) {
	for _, c := range choices {
		out = append(out, strings.ToUpper(strings.NewReplacer("-", "_", " ", "_", "/", "_").Replace(c)))
	}
	return out
}

func kotlinType(k value.Kind) string {
	switch k {
	case value.KindBool:
		return "Boolean"
	case value.KindInt:
		return "Long"
	case value.KindFloat:
		return "Double"
	case value.KindTime:
		return "Instant"
	}
	return "String"
}

func (p Place) kotlinKey(k entry.Declared) string {
	var args []string
	add := func(format string, a ...any) { args = append(args, fmt.Sprintf(format, a...)) }
	method := ""
	switch {
	case k.Family:
		fields := p.fields(k)
		if fields == nil {
			return ""
		}
		var into, out []string
		for _, f := range fields {
			kind := map[value.Kind]string{value.KindBool: "Switch", value.KindInt: "Whole", value.KindFloat: "Decimal"}[f.value.Kind()]
			if kind == "" {
				kind = "Text"
			}
			into = append(into, fmt.Sprintf("set%s(%s, it.%s)", kind, quoted(f.name), camel(f.name)))
			read := strings.ToLower(kind)
			if read == "switch" { // a word of the language
				read = "switch_"
			}
			out = append(out, fmt.Sprintf("%s(%s)", read, quoted(f.name)))
		}
		return fmt.Sprintf("records<%s>({ %s }, name = %s) { %[1]s(%[4]s) }", goRecord(k.Name), strings.Join(into, "."), quoted(k.Name), strings.Join(out, ", "))
	case len(k.Choices) > 0:
		method = "choice"
		add("%s.%s", goName(k.Name), constants([]string{k.Default.String()})[0])
	case k.Kind == value.KindInt:
		method = "whole"
		add("%s", k.Default)
		if !k.Min.IsZero() {
			add("%sL..%sL", k.Min, k.Max)
		}
	case k.Kind == value.KindFloat:
		method = "decimal"
		add("%s", k.Default)
		if !k.Min.IsZero() {
			add("%s..%s", k.Min, k.Max)
		}
	case k.Kind == value.KindBool:
		method = "bool"
		add("%s", k.Default)
	case k.Kind == value.KindText, k.Kind == value.KindSealed:
		method = "text"
		if k.Kind == value.KindSealed {
			add("sealed = true")
		} else {
			add("%s", strings.ReplaceAll(quoted(k.Default.String()), "$", "\\$"))
		}
	case k.Kind == value.KindBytes:
		method = "bytes"
	case k.Kind == value.KindTime:
		method = "time"
		add("Instant.parse(%s)", quoted(k.Default.String()))
	case k.Kind == value.KindList && p.itemType(k) == "string":
		method = "list"
		if k.Keep > 0 {
			add("keep = %d", k.Keep)
		}
	default:
		return ""
	}
	if k.About != "" && method != "bytes" && method != "time" && method != "list" {
		add("about = %s", strings.ReplaceAll(quoted(k.About), "$", "\\$"))
	}
	add("name = %s", quoted(k.Name))
	return method + "(" + strings.Join(args, ", ") + ")"
}

// Swift returns a class that declares the keys, and a function that reads, writes and watches one of
// them on a device.
func (p Place) Swift() ([]byte, error) {
	var b strings.Builder
	b.WriteString("import Foundation\n\nfinal class App: Keys {\n")
	for _, k := range p.keys() {
		code := p.swiftKey(k)
		if code == "" {
			fmt.Fprintf(&b, "    // %s is a %s, which the Swift package does not have yet.\n", k.Name, k.Says())
			continue
		}
		fmt.Fprintf(&b, "    lazy var %s = %s\n", camel(k.Name), code)
	}
	b.WriteString("}\n")
	if k, ok := p.first(); ok && p.swiftKey(k) != "" {
		fmt.Fprintf(&b, "\n// directory is one of the app's own.\nfunc use(_ directory: String) async throws {\n    let app = App()\n    _ = app.%s // a key exists once it is touched\n    let pantry = try Pantry(directory, %s, app)\n    let v = try pantry[app.%[1]s]\n    try await v.set(try v.value)\n    for await x in v.changes { print(x) }\n}\n", camel(k.Name), quoted(p.Name))
	}
	return []byte(b.String()), nil
}

func (p Place) swiftKey(k entry.Declared) string {
	name := quoted(k.Name)
	switch {
	case k.Family:
		return ""
	case len(k.Choices) > 0:
		var all []string
		for _, c := range k.Choices {
			all = append(all, quoted(c))
		}
		return fmt.Sprintf("choice(%s, [%s])", name, strings.Join(all, ", "))
	case k.Kind == value.KindInt && !k.Min.IsZero():
		return fmt.Sprintf("whole(%s, %s, %s...%s)", name, k.Default, k.Min, k.Max)
	case k.Kind == value.KindInt:
		return fmt.Sprintf("whole(%s, %s)", name, k.Default)
	case k.Kind == value.KindFloat && !k.Min.IsZero():
		return fmt.Sprintf("decimal(%s, %s, %s...%s)", name, k.Default, k.Min, k.Max)
	case k.Kind == value.KindFloat:
		return fmt.Sprintf("decimal(%s, %s)", name, k.Default)
	case k.Kind == value.KindBool:
		return fmt.Sprintf("bool(%s, %s)", name, k.Default)
	case k.Kind == value.KindSealed:
		return fmt.Sprintf("text(%s, sealed: true)", name)
	case k.Kind == value.KindText:
		return fmt.Sprintf("text(%s, %s)", name, quoted(k.Default.String()))
	case k.Kind == value.KindBytes:
		return fmt.Sprintf("bytes(%s)", name)
	case k.Kind == value.KindTime:
		return fmt.Sprintf("time(%s)", name)
	case k.Kind == value.KindList && p.itemType(k) == "string" && k.Keep > 0:
		return fmt.Sprintf("list(%s, keep: %d)", name, k.Keep)
	case k.Kind == value.KindList && p.itemType(k) == "string":
		return fmt.Sprintf("list(%s)", name)
	}
	return ""
}
