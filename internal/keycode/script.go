package keycode

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/value"
)

// JS returns a module for a page or for Node that declares the keys of a board, and reads, writes and
// watches one of them.
func (p Place) JS() ([]byte, error) {
	var b strings.Builder
	var uses, lines, names []string
	for _, k := range p.keys() {
		if k.Kind == value.KindSealed {
			continue
		}
		if k.Family {
			maker, code := p.jsFamily(k)
			for _, m := range maker {
				if !slices.Contains(uses, m) {
					uses = append(uses, m)
				}
			}
			lines = append(lines, fmt.Sprintf("export const %s = %s // board.records(%[1]s)", camel(k.Name), code))
			names = append(names, camel(k.Name))
			continue
		}
		maker := k.Kind.String()
		if len(k.Choices) > 0 {
			maker = "oneOf"
		}
		if !slices.Contains(uses, maker) {
			uses = append(uses, maker)
		}
		lines = append(lines, fmt.Sprintf("export const %s = %s", camel(k.Name), jsKey(maker, k)))
		names = append(names, camel(k.Name))
	}
	base, _, _ := strings.Cut(p.Link, "/boards/")
	fmt.Fprintf(&b, "import { %s } from '%s/small-pantry.js'\n\n", strings.Join(append([]string{"join"}, uses...), ", "), base)
	for _, line := range lines {
		b.WriteString(line + "\n")
	}
	fmt.Fprintf(&b, "\n// The link is a secret: take it from a form or from the environment, not from the code.\nexport function open(link) {\n  const board = join(link, { declare: [%s] })\n", strings.Join(names, ", "))
	if k, ok := p.first(); ok {
		fmt.Fprintf(&b, "  const v = board.on(%s)\n  v.watch(state => console.log(state.value, state.phase))\n  return { board, v, save: () => v.set(v.get()) }\n", camel(k.Name))
	} else {
		b.WriteString("  return { board }\n")
	}
	b.WriteString("}\n")
	return []byte(b.String()), nil
}

// jsFamily returns the code for a collection, and what it imports.
func (p Place) jsFamily(k entry.Declared) (makers []string, code string) {
	if k.Kind != value.KindMap {
		one := k
		if one.Default.IsZero() {
			one.Default = sampleOf(k.Kind)
		}
		return []string{"family", k.Kind.String()}, "family(" + jsKey(k.Kind.String(), one) + ")"
	}
	var members []string
	for _, f := range p.fields(k) {
		sample := f.value
		if v := sampleOf(sample.Kind()); !v.IsZero() {
			sample = v
		}
		members = append(members, quoted(f.name)+": "+string(sample.AppendJSON(nil)))
	}
	code = fmt.Sprintf("records(%s, { %s }", quoted(k.Name), strings.Join(members, ", "))
	if k.About != "" {
		code += ", { about: " + quoted(k.About) + " }"
	}
	return []string{"records"}, strings.ReplaceAll(code, "{  }", "{}") + ")"
}

func jsKey(maker string, k entry.Declared) string {
	if maker == "oneOf" {
		items := []string{quoted(k.Name), quoted(k.Default.String())}
		for _, c := range k.Choices {
			if c != k.Default.String() {
				items = append(items, quoted(c))
			}
		}
		return "oneOf(" + strings.Join(items, ", ") + ")"
	}
	var rules []string
	if !k.Min.IsZero() {
		rules = append(rules, "min: "+k.Min.String(), "max: "+k.Max.String())
	}
	if k.Keep > 0 {
		rules = append(rules, fmt.Sprintf("keep: %d", k.Keep))
	}
	if k.About != "" {
		rules = append(rules, "about: "+quoted(k.About))
	}
	code := fmt.Sprintf("%s(%s, %s", maker, quoted(k.Name), jsLiteral(k.Kind, k.Default))
	if len(rules) > 0 {
		code += ", { " + strings.Join(rules, ", ") + " }"
	}
	return code + ")"
}

func jsLiteral(kind value.Kind, v value.Value) string {
	switch kind {
	case value.KindTime:
		return "new Date(" + quoted(v.String()) + ")"
	case value.KindBytes:
		b, _ := v.AsBytes()
		return "new Uint8Array(" + strings.ReplaceAll(fmt.Sprint(b), " ", ", ") + ")"
	}
	if v.IsZero() {
		return map[value.Kind]string{value.KindBool: "false", value.KindInt: "0", value.KindFloat: "0", value.KindText: "''", value.KindList: "[]", value.KindMap: "{}"}[kind]
	}
	return string(v.AppendJSON(nil))
}

// quoted returns a literal that is one in JavaScript, Kotlin (but for $) and Swift.
func quoted(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

// Curl returns shell lines that read, write and watch the first key of a board. BOARD_TOKEN is the part
// of the link after the #.
func (p Place) Curl() ([]byte, error) {
	base, board, _ := strings.Cut(p.Link, "/boards/")
	at := base + "/v1/boards/" + board
	var b strings.Builder
	fmt.Fprintf(&b, "# BOARD_TOKEN is the part of the link after the #. It is a secret.\nauth=\"Authorization: Bearer $BOARD_TOKEN\"\n\n")
	for _, k := range p.keys() {
		if k.Kind == value.KindSealed {
			continue
		}
		path, say := k.Name, k.Kind.String()
		if k.Family {
			fmt.Fprintf(&b, "# %s/…: records\ncurl -sS -H \"$auth\" '%s/entries?prefix=%[1]s/'\n", k.Name, at)
			continue
		}
		if k.Allowed() != "" {
			say += ", " + k.Allowed()
		}
		fmt.Fprintf(&b, "# %s: %s\ncurl -sS -H \"$auth\" '%s/entries/%[1]s' # 404 while nothing is stored\n", path, say, at)
		fmt.Fprintf(&b, "curl -sS -H \"$auth\" -H 'Content-Type: application/json' -X PUT -d %s '%s/entries/%s'\n", shell(string(value.Value(k.Default).AppendJSON(nil))), at, path)
		if k.Kind.Number() {
			fmt.Fprintf(&b, "curl -sS -H \"$auth\" -H 'Content-Type: application/json' -H \"Idempotency-Key: $(od -An -N16 -tx1 /dev/urandom | tr -d ' \\n')\" -d '{\"op\":\"add\",\"amount\":1}' '%s/entries/%s'\n", at, path)
		}
	}
	fmt.Fprintf(&b, "\n# Each change, as it happens.\ncurl -sSN -H \"$auth\" '%s/events'\n", at)
	return []byte(b.String()), nil
}

// shell quotes an argument.
func shell(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
