package server

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/small-pantry/pantry/value"
)

// An operation is a change that the server computes, so that two clients who
// change the same entry at once are both counted.
type operation struct {
	Op     string          `json:"op"`
	Amount json.RawMessage `json:"amount"` // add
	To     json.RawMessage `json:"to"`     // raise, lower
	Item   json.RawMessage `json:"item"`   // append, remove
	Start  json.RawMessage `json:"start"`  // what an absent entry starts from
	Min    json.RawMessage `json:"min"`    // add
	Max    json.RawMessage `json:"max"`    // add
	Keep   int             `json:"keep"`   // append; 0: all
	Unique bool            `json:"unique"` // append
}

// An apply gives an entry's new value out of its present one; that of an
// absent entry is no value.
type apply func(now value.Value) (value.Value, error)

var operations = map[string]struct {
	members []string // that it takes besides op and start; the first is needed
	make    func(o operation) (apply, error)
}{
	"add":    {[]string{"amount", "min", "max"}, operation.add},
	"raise":  {[]string{"to"}, func(o operation) (apply, error) { return o.onNumber("to", o.To, value.Raise) }},
	"lower":  {[]string{"to"}, func(o operation) (apply, error) { return o.onNumber("to", o.To, value.Lower) }},
	"append": {[]string{"item", "keep", "unique"}, operation.append},
	"remove": {[]string{"item"}, operation.remove},
}

// readOperation reads an operation, which may have the members also besides
// its own.
func readOperation(body []byte, also ...string) (apply, error) {
	var given map[string]json.RawMessage
	var o operation
	if err := json.Unmarshal(body, &given); err != nil {
		return nil, refuse("invalid", `the body is no operation such as {"op":"add","amount":-10}: %v`, err)
	}
	if err := json.Unmarshal(body, &o); err != nil {
		return nil, refuse("invalid", "the operation can't be read: %v", err)
	}
	known, ok := operations[o.Op]
	if !ok {
		return nil, refuse("invalid", "there is no operation %s: use add, raise, lower, append or remove", value.Quote(o.Op))
	}
	if err := takesOnly(given, o.Op, append(append(also, known.members...), "op", "start")); err != nil {
		return nil, err
	}
	if given[known.members[0]] == nil {
		return nil, refuse("invalid", "the operation %s needs %q", o.Op, known.members[0])
	}
	return known.make(o)
}

// takesOnly refuses a member that an operation doesn't know: it may be misspelt.
func takesOnly(given map[string]json.RawMessage, op string, members []string) error {
	for name := range given {
		if !contains(members, name) {
			return refuse("invalid", "the operation %s takes no %s; it takes %s", op, value.Quote(name), strings.Join(members, ", "))
		}
	}
	return nil
}

func contains(all []string, s string) bool {
	for _, x := range all {
		if x == s {
			return true
		}
	}
	return false
}

// member reads one value of an operation; none gives no value.
func member(name string, raw json.RawMessage) (value.Value, error) {
	if raw == nil {
		return value.Value{}, nil
	}
	v, err := value.ParseAny(raw)
	if err != nil {
		return v, fmt.Errorf("%q: %w", name, err)
	}
	return v, nil
}

// number is member for a number.
func number(name string, raw json.RawMessage) (value.Value, error) {
	v, err := member(name, raw)
	if err == nil && raw != nil && !v.Kind().Number() {
		return v, refuse("invalid", "%q must be a number, not %s", name, v.Kind())
	}
	return v, err
}

// from gives the present value, or what an absent entry starts from.
func from(now, start, otherwise value.Value) value.Value {
	switch {
	case !now.IsZero():
		return now
	case !start.IsZero():
		return start
	}
	return otherwise
}

func (o operation) add() (apply, error) {
	min, err := number("min", o.Min)
	if err != nil {
		return nil, err
	}
	max, err := number("max", o.Max)
	if err != nil {
		return nil, err
	}
	return o.onNumber("amount", o.Amount, func(a, b value.Value) (value.Value, error) {
		sum, err := value.Add(a, b)
		if err == nil {
			err = value.Within(sum, min, max)
		}
		return sum, err
	})
}

// onNumber makes the operations whose operand is a number. An absent entry
// without a start begins at zero, of the operand's kind.
func (o operation) onNumber(name string, raw json.RawMessage, f func(a, b value.Value) (value.Value, error)) (apply, error) {
	operand, err := number(name, raw)
	if err != nil {
		return nil, err
	}
	start, err := number("start", o.Start)
	if err != nil {
		return nil, err
	}
	zero, err := value.Convert(value.Int(0), operand.Kind())
	if err != nil {
		return nil, err
	}
	return func(now value.Value) (value.Value, error) { return f(from(now, start, zero), operand) }, nil
}

func (o operation) append() (apply, error) {
	if o.Keep < 0 {
		return nil, refuse("invalid", `"keep" is %d, and must be at least 0`, o.Keep)
	}
	return o.onList(func(list, item value.Value) (value.Value, error) {
		return value.Append(list, o.Keep, o.Unique, item)
	})
}

func (o operation) remove() (apply, error) {
	return o.onList(func(list, item value.Value) (value.Value, error) { return value.Remove(list, item) })
}

func (o operation) onList(f func(list, item value.Value) (value.Value, error)) (apply, error) {
	item, err := member("item", o.Item)
	if err != nil {
		return nil, err
	}
	start, err := member("start", o.Start)
	if err != nil {
		return nil, err
	}
	return func(now value.Value) (value.Value, error) { return f(from(now, start, value.List()), item) }, nil
}
