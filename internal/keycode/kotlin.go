package keycode

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// Kotlin returns a class that declares the keys, and functions that read, write and watch one of them.
func (p Place) Kotlin() ([]byte, error) {
	var b strings.Builder
	b.WriteString("import java.time.Instant\nimport kotlinx.coroutines.flow.*\nimport pantry.*\n\n")
	for _, k := range p.keys() {
		if len(k.Choices) > 0 && !k.Family && areConstants(k.Choices) {
			fmt.Fprintf(&b, "enum class %s { %s }\n", goName(k.Name), strings.Join(constants(k.Choices), ", "))
		}
		if fields := p.fields(k); k.Family && fields != nil {
			var members []string
			for _, f := range fields {
				members = append(members, "val "+camel(f.name)+": "+kotlinTypes[kindOf(f.value)])
			}
			fmt.Fprintf(&b, "data class %s(%s)\n", goRecord(k.Name), strings.Join(members, ", "))
		}
	}
	b.WriteString("\nclass App : Declared() {\n")
	for _, k := range p.keys() {
		code := p.kotlinKey(k)
		if code == "" {
			fmt.Fprintf(&b, "    // %s (%s) can't be declared in Kotlin as it is; read it with the Go package.\n", k.Name, k.Says())
			continue
		}
		fmt.Fprintf(&b, "    val %s by %s\n", camel(k.Name), code)
	}
	b.WriteString("}\n")
	if k, ok := p.first(); ok && p.kotlinKey(k) != "" {
		name := camel(k.Name)
		if p.Board {
			fmt.Fprintf(&b, "\n// The link is a secret.\nsuspend fun join(link: String, app: App): Board = Board.join(link, app)\n\nsuspend fun use(board: Board, app: App) {\n    val v = board[app.%s]\n    v.set(v.value)\n    v.flow.collect { println(\"${it.value} ${it.phase}\") }\n}\n", name)
		} else {
			fmt.Fprintf(&b, "\n// dir is a directory of the app.\nsuspend fun open(dir: String, app: App): Pantry = Pantry.open(dir, %s, app)\n\nsuspend fun use(p: Pantry, app: App) {\n    val v = p[app.%s]\n    v.set(v.value)\n    v.flow.collect { println(it) }\n}\n", quoted(p.Name), name)
		}
	}
	return []byte(b.String()), nil
}

// words are the texts that the constants of an enum are stored as: ALL_DAY as all-day.
var words = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// areConstants reports whether constants of an enum are stored as these choices.
func areConstants(choices []string) bool {
	return !slices.ContainsFunc(choices, func(c string) bool { return !words.MatchString(c) })
}

func constants(choices []string) (out []string) {
	for _, c := range choices {
		out = append(out, strings.ToUpper(strings.ReplaceAll(c, "-", "_")))
	}
	return out
}

// losesDefault reports whether a key has a default that the layers for Kotlin and Swift can't declare.
func losesDefault(k entry.Declared) bool {
	switch k.Kind {
	case value.KindBytes:
		return string(k.Default.AppendJSON(nil)) != `""`
	case value.KindList:
		return string(k.Default.AppendJSON(nil)) != "[]"
	}
	return false
}

// kindOf returns the kind of a member's value, as the layers for Kotlin and Swift call it.
func kindOf(v value.Value) string {
	switch v.Kind() {
	case value.KindBool:
		return "bool"
	case value.KindInt:
		return "long"
	case value.KindFloat:
		return "double"
	case value.KindTime:
		return "time"
	}
	return "text"
}

var kotlinTypes = map[string]string{"bool": "Boolean", "long": "Long", "double": "Double", "time": "Instant", "text": "String"}

// itemKinds has the kinds of list items by their types in Go.
var itemKinds = map[string]string{"string": "text", "int": "long", "float64": "double", "bool": "bool", "time.Time": "time"}

// fits reports whether all values of a key of whole numbers fit into 32 bits.
func fits(k entry.Declared) bool {
	for _, v := range []value.Value{k.Min, k.Max, k.Default} {
		if n, ok := v.AsInt(); !ok || n < math.MinInt32 || n > math.MaxInt32 {
			return false
		}
	}
	return true
}

func (p Place) kotlinRecords(k entry.Declared) string {
	fields := p.fields(k)
	if fields == nil {
		return ""
	}
	var b strings.Builder
	var made []string
	fmt.Fprintf(&b, "records(name = %s) {\n", quoted(k.Name))
	for _, f := range fields {
		name := camel(f.name)
		rename := ""
		if kebab(name) != f.name {
			rename = ", name = " + quoted(f.name)
		}
		fmt.Fprintf(&b, "        val %s = member(%s::%s, Kind.%s%s)\n", name, goRecord(k.Name), name, kindOf(f.value), rename)
		made = append(made, name+"()")
	}
	fmt.Fprintf(&b, "        made { %s(%s) }\n    }", goRecord(k.Name), strings.Join(made, ", "))
	return b.String()
}

// kebab converts reminderHour to reminder-hour, as the layers do.
func kebab(name string) string {
	var b strings.Builder
	for i, r := range name {
		if r >= 'A' && r <= 'Z' && i > 0 {
			b.WriteByte('-')
		}
		b.WriteRune(r)
	}
	return strings.ToLower(b.String())
}

func (p Place) kotlinKey(k entry.Declared) string {
	var args []string
	add := func(format string, a ...any) { args = append(args, fmt.Sprintf(format, a...)) }
	method := ""
	switch {
	case k.Family:
		return p.kotlinRecords(k)
	case losesDefault(k) || len(k.Choices) > 0 && !areConstants(k.Choices):
		return ""
	case len(k.Choices) > 0:
		method = "choice"
		add("%s.%s", goName(k.Name), constants([]string{k.Default.String()})[0])
	case k.Kind == value.KindInt && fits(k):
		method = "int"
		add("%s", k.Default)
		add("%s..%s", k.Min, k.Max)
	case k.Kind == value.KindInt:
		method = "long"
		add("%s", k.Default)
		if !k.Min.IsZero() {
			add("%sL..%sL", k.Min, k.Max)
		}
	case k.Kind == value.KindFloat:
		method = "double"
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
	case k.Kind == value.KindList && itemKinds[p.itemType(k)] != "":
		method = "list"
		add("Kind.%s", itemKinds[p.itemType(k)])
		if k.Keep > 0 {
			add("keep = %d", k.Keep)
		}
	default:
		return ""
	}
	if k.About != "" && method != "bytes" && method != "time" {
		add("about = %s", strings.ReplaceAll(quoted(k.About), "$", "\\$"))
	}
	add("name = %s", quoted(k.Name))
	return method + "(" + strings.Join(args, ", ") + ")"
}
