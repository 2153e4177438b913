package value

import (
	"math"
	"slices"
	"strings"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
)

// members lists the members of each verb besides op; the first one is required.
var members = [...][]string{
	Put:    {"value", "as", "kind", "typed"},
	Drop:   {},
	Add:    {"amount", "start", "min", "max"},
	Raise:  {"to", "start"},
	Lower:  {"to", "start"},
	Append: {"item", "start", "keep", "unique"},
	Remove: {"item", "start", "all"},
	Take:   {"at", "start"},
}

// AppendJSON appends the JSON form of op to dst, an object:
//
//	{"op":"put","value":5,"as":"int","kind":"int"}   as: the kind of the value, if it is known
//	{"op":"put","typed":"5"}                         as a person typed it
//	{"op":"drop"}
//	{"op":"add","amount":-10,"start":0,"min":0,"max":5000}
//	{"op":"raise","to":31} {"op":"lower","to":3}
//	{"op":"append","item":"C4","keep":50,"unique":true}
//	{"op":"remove","item":"C4","all":true}
//	{"op":"take","at":0}
//
// Members with a zero value are left out.
func (op Op) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	op.appendMembers(&o)
	return o.End()
}

// MarshalJSON returns the JSON form: see AppendJSON.
func (op Op) MarshalJSON() ([]byte, error) { return op.AppendJSON(nil), nil }

// UnmarshalJSON reads the JSON form: see ParseOp.
func (op *Op) UnmarshalJSON(data []byte) (err error) {
	*op, err = ParseOp(data)
	return err
}

func (op Op) appendMembers(o *scan.Object) {
	val := func(name string, v Value) {
		if !v.IsZero() {
			o.Dst = v.AppendJSON(o.Name(name))
		}
	}
	o.Text("op", op.Verb.String())
	switch op.Verb {
	case Put:
		switch op.Form {
		case Known:
			val("value", op.Operand)
			o.Text("as", op.Operand.kind.String())
		case FromJSON:
			o.Dst = append(o.Name("value"), op.Raw...)
		case AsTyped:
			o.Dst = scan.AppendString(o.Name("typed"), op.Raw)
		}
		if op.Kind != KindNone {
			o.Text("kind", op.Kind.String())
		}
		return
	case Add:
		val("amount", op.Operand)
		val("min", op.Min)
		val("max", op.Max)
	case Raise, Lower:
		val("to", op.Operand)
	case Append:
		val("item", op.Operand)
		o.IntIf("keep", int64(op.Keep))
		o.BoolIf("unique", op.Unique)
	case Remove:
		val("item", op.Operand)
		o.BoolIf("all", op.All)
	case Take:
		o.Int("at", int64(op.At))
	}
	if op.Verb != Drop {
		val("start", op.Start)
	}
}

// ParseOp reads the JSON form of an Op. It is strict: it refuses a member that the verb does not
// have, since it can be misspelt, and a member that occurs twice. It ignores the members named in
// also. The error wraps ErrInvalid.
func ParseOp(data []byte, also ...string) (Op, error) {
	var op Op
	given := map[string][]byte{}
	r := scan.New(data)
	err := r.Object(func(name []byte) error {
		raw, err := r.Raw(MaxDepth)
		given[string(name)] = raw
		return err
	})
	if err == nil {
		err = r.End()
	}
	if err != nil {
		return op, refuse.As(ErrInvalid, `this is not an operation such as {"op":"add","amount":-10}: %v`, err)
	}
	verb, err := text(given, "op")
	if err != nil {
		return op, err
	}
	i := slices.Index(verbNames[:], verb)
	if i < 1 {
		return op, refuse.As(ErrInvalid, "operation %s does not exist: use %s", scan.Quote(verb), strings.Join(verbNames[1:], ", "))
	}
	op.Verb = Verb(i)
	takes := members[op.Verb]
	for name := range given {
		if name != "op" && !slices.Contains(takes, name) && !slices.Contains(also, name) {
			return op, refuse.As(ErrInvalid, "operation %s has no member %s; it has %s", op.Verb, scan.Quote(name), strings.Join(slices.Concat([]string{"op"}, also, takes), ", "))
		}
	}
	if op.Verb == Put {
		return op, op.readPut(given)
	}
	if len(takes) > 0 && given[takes[0]] == nil {
		return op, refuse.As(ErrInvalid, "operation %s needs the member %q", op.Verb, takes[0])
	}
	return op, op.readOperands(given)
}

func text(given map[string][]byte, name string) (string, error) {
	if given[name] == nil {
		return "", refuse.As(ErrInvalid, "%q is missing", name)
	}
	s, err := scan.New(given[name]).String()
	if err != nil {
		return "", refuse.As(ErrInvalid, "%q must be a text, not %s", name, given[name])
	}
	return s, nil
}

func (op *Op) readPut(given map[string][]byte) (err error) {
	typed, raw := given["typed"] != nil, given["value"]
	if typed == (raw != nil) {
		return refuse.As(ErrInvalid, `operation put needs "value" or "typed"`)
	}
	if given["kind"] != nil {
		if op.Kind, err = kindOf(given, "kind"); err != nil {
			return err
		}
	}
	switch {
	case typed && given["as"] != nil:
		return refuse.As(ErrInvalid, `a put with "typed" can't have "as"`)
	case typed:
		op.Form = AsTyped
		op.Raw, err = text(given, "typed")
	case given["as"] == nil:
		op.Form, op.Raw = FromJSON, string(raw)
	default:
		var as Kind
		if as, err = kindOf(given, "as"); err == nil {
			op.Operand, err = Parse(as, raw)
		}
		if err != nil && as != KindNone {
			err = refuse.As(ErrInvalid, `"value" can't be read as %s: %v`, as, err)
		}
	}
	return err
}

func kindOf(given map[string][]byte, name string) (Kind, error) {
	s, err := text(given, name)
	if err != nil {
		return KindNone, err
	}
	return ParseKind(s)
}

// readOperands reads the members of all verbs but put.
func (op *Op) readOperands(given map[string][]byte) (err error) {
	val := func(name string, to *Value, number bool) {
		raw := given[name]
		if raw == nil || err != nil {
			return
		}
		if *to, err = ParseAny(raw); err != nil {
			err = refuse.As(ErrInvalid, "%q: %v", name, err)
		} else if number && !to.kind.Number() {
			err = refuse.As(ErrInvalid, "%q must be a number, not %s", name, to.kind)
		}
	}
	count := func(name string, least int64, to *int) {
		if given[name] == nil || err != nil {
			return
		}
		n, bad := scan.New(given[name]).Int()
		if bad != nil || n < least || n > math.MaxInt32 {
			err = refuse.As(ErrInvalid, "%q is %s; it must be a whole number, at least %d", name, given[name], least)
		}
		*to = int(n)
	}
	flag := func(name string, to *bool) {
		if given[name] == nil || err != nil {
			return
		}
		w := string(given[name])
		if *to = w == "true"; w != "true" && w != "false" {
			err = refuse.As(ErrInvalid, "%q must be true or false, not %s", name, w)
		}
	}
	number := op.Verb == Add || op.Verb == Raise || op.Verb == Lower
	for _, name := range []string{"amount", "to", "item"} { // the loop accepted at most one
		val(name, &op.Operand, number)
	}
	val("start", &op.Start, number)
	val("min", &op.Min, true)
	val("max", &op.Max, true)
	count("keep", 0, &op.Keep)
	count("at", -1, &op.At)
	flag("unique", &op.Unique)
	flag("all", &op.All)
	return err
}
