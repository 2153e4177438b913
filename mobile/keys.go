package mobile

import (
	"errors"
	"sync"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
)

// Keys are the keys of an app: names, kinds and defaults of what it can store. They are declared
// before a namespace is opened with them, and can't be changed afterwards.
type Keys struct {
	mu     sync.Mutex // guards the following fields
	all    []anyKey
	err    error // the first error of a declaration
	opened bool
}

// NewKeys returns an empty set of keys.
func NewKeys() *Keys { return &Keys{} }

// add declares a key. What is wrong with it is the error of Open.
func (k *Keys) add(one anyKey, make func()) {
	if k == nil {
		return
	}
	k.change(make)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.all = append(k.all, one)
}

// change changes the declaration of a key.
func (k *Keys) change(f func()) {
	k.mu.Lock()
	defer k.mu.Unlock()
	err := handover.Misuse("keys are declared before a namespace is opened with them")
	if !k.opened {
		err = nil
		func() {
			defer caught(&err)
			f()
		}()
	}
	if k.err == nil {
		k.err = err
	}
}

// take returns all keys for opening a namespace.
func (k *Keys) take() ([]pantry.AnyKey, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.err != nil {
		return nil, k.err
	}
	k.opened = true
	var all []pantry.AnyKey
	for _, one := range k.all {
		all = append(all, one.declared())
	}
	return all, nil
}

// An anyKey is a key of any kind.
type anyKey interface {
	declared() pantry.AnyKey
	of() *Keys
	ready() error
}

// A key is the common part of all kinds: M is the type in the other language, T the stored type.
type key[M, T any] struct {
	keys *Keys
	k    pantry.Key[T]
	made bool // the key was declared
	as   form[M, T]
}

// A form converts values between the two languages.
type form[M, T any] struct {
	in  func(M) (T, error)
	out func(T) M
}

func same[T any]() form[T, T] {
	return form[T, T]{func(x T) (T, error) { return x, nil }, func(x T) T { return x }}
}

var (
	asMillis = form[int64, time.Time]{
		func(ms int64) (time.Time, error) { return time.UnixMilli(ms).UTC(), nil }, func(t time.Time) int64 { return t.UnixMilli() },
	}
	asSpan = form[int64, time.Duration]{
		func(ms int64) (time.Duration, error) {
			if d := time.Duration(ms) * time.Millisecond; d.Milliseconds() == ms {
				return d, nil
			}
			return 0, handover.Misuse("%d milliseconds are too long", ms)
		},
		func(d time.Duration) int64 { return d.Milliseconds() },
	}
)

func (k *key[M, T]) begin(keys *Keys, self anyKey, as form[M, T], make func() pantry.Key[T]) {
	k.keys, k.as = keys, as
	keys.add(self, func() { k.k, k.made = make(), true })
}

func (k *key[M, T]) declared() pantry.AnyKey { return k.k }

func (k *key[M, T]) of() *Keys { return k.keys }

func (k *key[M, T]) change(f func(k pantry.Key[T]) pantry.Key[T]) {
	if k.keys != nil {
		k.keys.change(func() {
			if k.made {
				k.k = f(k.k)
			}
		})
	}
}

// ready reports whether the key can be used.
func (k *key[M, T]) ready() error {
	if k == nil || !k.made {
		return handover.Misuse("this key was not declared with Keys")
	}
	return nil
}

// Name returns the key's name, or "" for a key that was not declared.
func (k *key[M, T]) Name() string {
	if k.ready() != nil {
		return ""
	}
	return k.k.Name()
}

// Parse parses what a user typed. The error has a sentence for the user.
func (k *key[M, T]) Parse(typed string) (x M, err error) {
	if err = k.ready(); err != nil {
		return x, err
	}
	got, err := k.k.Parse(typed)
	if err != nil {
		return x, handover.Coded(err)
	}
	return k.as.out(got), nil
}

// Format is the inverse of Parse: the text for an input.
func (k *key[M, T]) Format(x M) (string, error) {
	if err := k.ready(); err != nil {
		return "", err
	}
	stored, err := k.as.in(x)
	if err != nil {
		return "", handover.Coded(err)
	}
	return k.k.Format(stored), nil
}

// Describe returns the text of About.
func (k *key[M, T]) Describe() string {
	if k.ready() != nil {
		return ""
	}
	return k.k.Describe()
}

// A IntKey is a key for 64-bit integers.
type IntKey struct{ key[int64, int64] }

// IntVar declares a key for integers with its default.
func (k *Keys) IntKey(name string, def int64) *IntKey {
	w := &IntKey{}
	w.begin(k, w, same[int64](), func() pantry.Key[int64] { return pantry.Int(name, def) })
	return w
}

// Between refuses values below lo or above hi.
func (k *IntKey) Between(lo, hi int64) *IntKey {
	k.change(func(k pantry.Key[int64]) pantry.Key[int64] { return k.Between(lo, hi) })
	return k
}

// About sets a description for lists and screens.
func (k *IntKey) About(text string) *IntKey {
	k.change(func(k pantry.Key[int64]) pantry.Key[int64] { return k.About(text) })
	return k
}

// A FloatKey is a key for 64-bit floats.
type FloatKey struct{ key[float64, float64] }

// FloatVar declares a key for floats with its default.
func (k *Keys) FloatKey(name string, def float64) *FloatKey {
	d := &FloatKey{}
	d.begin(k, d, same[float64](), func() pantry.Key[float64] { return pantry.Float(name, def) })
	return d
}

// Between refuses values below lo or above hi.
func (k *FloatKey) Between(lo, hi float64) *FloatKey {
	k.change(func(k pantry.Key[float64]) pantry.Key[float64] { return k.Between(lo, hi) })
	return k
}

// About sets a description for lists and screens.
func (k *FloatKey) About(text string) *FloatKey {
	k.change(func(k pantry.Key[float64]) pantry.Key[float64] { return k.About(text) })
	return k
}

// A BoolKey is a key for booleans.
type BoolKey struct{ key[bool, bool] }

// BoolVar declares a key for booleans with its default.
func (k *Keys) BoolKey(name string, def bool) *BoolKey {
	s := &BoolKey{}
	s.begin(k, s, same[bool](), func() pantry.Key[bool] { return pantry.Bool(name, def) })
	return s
}

// About sets a description for lists and screens.
func (k *BoolKey) About(text string) *BoolKey {
	k.change(func(k pantry.Key[bool]) pantry.Key[bool] { return k.About(text) })
	return k
}

// A TextKey is a key for texts, or for one of several choices.
type TextKey struct{ key[string, string] }

// A TextRule is an app's own rule for texts. Check returns a sentence for the user that says what is
// wrong with a text, or "" if nothing is. It must be quick, and must not use the key.
type TextRule interface{ Check(text string) string }

// TextVar declares a key for texts with its default.
func (k *Keys) TextKey(name, def string) *TextKey {
	t := &TextKey{}
	t.begin(k, t, same[string](), func() pantry.Key[string] { return pantry.Text(name, def) })
	return t
}

// ChoiceKey declares a key for one of several texts. The first is the default.
func (k *Keys) ChoiceKey(name string, options *Texts) *TextKey {
	t := &TextKey{}
	t.begin(k, t, same[string](), func() pantry.Key[string] {
		if options == nil || len(options.all) == 0 {
			panic(handover.Misuse("%s has no choices: add its options", name))
		}
		return pantry.OneOf(name, options.all[0], options.all[1:]...)
	})
	return t
}

// About sets a description for lists and screens.
func (k *TextKey) About(text string) *TextKey {
	k.change(func(k pantry.Key[string]) pantry.Key[string] { return k.About(text) })
	return k
}

// Check refuses the texts that a rule refuses. Its sentence is the sentence of the error.
func (k *TextKey) Check(rule TextRule) *TextKey {
	k.change(func(k pantry.Key[string]) pantry.Key[string] {
		if rule == nil {
			panic(handover.Misuse("%s has no rule to check", k.Name()))
		}
		return k.Check(func(text string) error {
			if sentence := rule.Check(text); sentence != "" {
				return errors.New(sentence)
			}
			return nil
		})
	})
	return k
}

// Sealed encrypts the stored value with the key of Options.Seal.
func (k *TextKey) Sealed() *TextKey {
	k.change(func(k pantry.Key[string]) pantry.Key[string] { return k.Sealed() })
	return k
}

// Choices returns the choices; none for a key that Text declared.
func (k *TextKey) Choices() *Texts {
	if k == nil || k.ready() != nil {
		return NewTexts()
	}
	return &Texts{k.k.Choices()}
}

// A BytesKey is a key for bytes.
type BytesKey struct{ key[[]byte, []byte] }

// BytesVar declares a key for bytes with its default.
func (k *Keys) BytesKey(name string, def []byte) *BytesKey {
	b := &BytesKey{}
	def = append([]byte{}, def...) // it belongs to the other language
	b.begin(k, b, form[[]byte, []byte]{func(x []byte) ([]byte, error) { return append([]byte{}, x...), nil }, func(x []byte) []byte { return x }},
		func() pantry.Key[[]byte] { return pantry.Bytes(name, def) })
	return b
}

// A TimeKey is a key for moments, in milliseconds since 1970 (UTC).
type TimeKey struct{ key[int64, time.Time] }

// TimeVar declares a key for moments with its default.
func (k *Keys) TimeKey(name string, defMillis int64) *TimeKey {
	t := &TimeKey{}
	t.begin(k, t, asMillis, func() pantry.Key[time.Time] { return pantry.Time(name, time.UnixMilli(defMillis).UTC()) })
	return t
}

// A DurationKey is a key for durations, in milliseconds.
type DurationKey struct{ key[int64, time.Duration] }

// DurationVar declares a key for durations with its default; Parse accepts 90s and 5 min.
func (k *Keys) DurationKey(name string, defMillis int64) *DurationKey {
	s := &DurationKey{}
	s.begin(k, s, asSpan, func() pantry.Key[time.Duration] {
		d, err := asSpan.in(defMillis)
		if err != nil {
			panic(err)
		}
		return pantry.Duration(name, d)
	})
	return s
}
