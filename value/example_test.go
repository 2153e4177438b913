package value_test

import (
	"fmt"

	"github.com/small-pantry/pantry/value"
)

// A value has a kind, which its JSON keeps: a float always has a point.
func ExampleParse() {
	for _, text := range []string{"5", "5.0", `"5"`} {
		v, err := value.ParseAny([]byte(text))
		fmt.Println(v, v.Kind(), err)
	}
	_, err := value.Parse(value.KindInt, []byte("5.5"))
	fmt.Println(err != nil)
	// Output:
	// 5 int <nil>
	// 5.0 float <nil>
	// 5 text <nil>
	// true
}

// What a person typed becomes a value of the kind that it looks like.
func ExampleInfer() {
	for _, typed := range []string{"7", "7.5", "yes", "true", "[1,2]"} {
		v, err := value.Infer(typed)
		fmt.Println(v.Kind(), err)
	}
	// Output:
	// int <nil>
	// float <nil>
	// text <nil>
	// bool <nil>
	// list <nil>
}

// A conversion is exact, or it fails.
func ExampleConvert() {
	v, err := value.Convert(value.Int(7), value.KindFloat)
	fmt.Println(v, err)
	_, err = value.Convert(value.Float(7.5), value.KindInt)
	fmt.Println(err != nil)
	// Output:
	// 7.0 <nil>
	// true
}

// An operation is data, and applies to a value.
func ExampleOp_Apply() {
	op, err := value.ParseOp([]byte(`{"op":"add","amount":-10,"min":0}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	next, _, err := op.Apply(value.Int(420))
	fmt.Println(next, err)
	_, _, err = op.Apply(value.Int(5))
	fmt.Println(err != nil)
	// Output:
	// 410 <nil>
	// true
}
