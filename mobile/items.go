package mobile

import (
	"encoding/base64"
	"time"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/internal/handover"
	"github.com/small-pantry/pantry/internal/keydef"
	"github.com/small-pantry/pantry/value"
)

// Items are the items of a list, in order.
type Items struct{ all []value.Value }

// NewItems returns an empty list.
func NewItems() *Items { return &Items{} }

func (l *Items) add(v value.Value) *Items {
	if l != nil {
		l.all = append(l.all, v)
	}
	return l
}

// Len returns the number of items.
func (l *Items) Len() int {
	if l == nil {
		return 0
	}
	return len(l.all)
}

// AddInt adds an integer at the end.
func (l *Items) AddInt(x int64) *Items { return l.add(intPart.in(x)) }

// AddFloat adds a float at the end.
func (l *Items) AddFloat(x float64) *Items { return l.add(floatPart.in(x)) }

// AddBool adds a boolean at the end.
func (l *Items) AddBool(x bool) *Items { return l.add(boolPart.in(x)) }

// AddText adds a text at the end.
func (l *Items) AddText(x string) *Items { return l.add(textPart.in(x)) }

// AddBytes adds bytes at the end.
func (l *Items) AddBytes(x []byte) *Items { return l.add(bytesPart.in(x)) }

// AddTime adds a moment at the end, in milliseconds since 1970 (UTC).
func (l *Items) AddTime(millis int64) *Items { return l.add(timePart.in(millis)) }

// AddDuration adds a duration at the end, in milliseconds.
func (l *Items) AddDuration(millis int64) *Items { return l.add(durationPart.in(millis)) }

// GetInt returns the integer at an index from 0. The error of this and the following methods is misuse
// for an index out of range, and wrong-kind for an item of another kind.
func (l *Items) GetInt(i int) (int64, error) { return item(l, i, intPart) }

// GetFloat returns a float.
func (l *Items) GetFloat(i int) (float64, error) { return item(l, i, floatPart) }

// GetBool returns a boolean.
func (l *Items) GetBool(i int) (bool, error) { return item(l, i, boolPart) }

// GetText returns a text.
func (l *Items) GetText(i int) (string, error) { return item(l, i, textPart) }

// GetBytes returns bytes.
func (l *Items) GetBytes(i int) ([]byte, error) { return item(l, i, bytesPart) }

// GetTime returns a moment, in milliseconds since 1970 (UTC).
func (l *Items) GetTime(i int) (int64, error) { return item(l, i, timePart) }

// GetDuration returns a duration, in milliseconds.
func (l *Items) GetDuration(i int) (int64, error) { return item(l, i, durationPart) }

func item[M any](l *Items, i int, p part[M]) (x M, err error) {
	if i < 0 || i >= l.Len() {
		return x, handover.Misuse("there is no item %d of %d", i, l.Len())
	}
	x, ok := p.out(l.all[i])
	if !ok {
		return x, handover.Failure("wrong-kind", "the list has an item of kind "+l.all[i].Kind().String(), pantry.ErrWrongKind)
	}
	return x, nil
}

// A part converts a value inside a list or a record: M is the type in the other language.
type part[M any] struct {
	in  func(M) value.Value
	out func(value.Value) (M, bool)
}

// moment is the form of a time inside a list or a record.
const moment = "2006-01-02T15:04:05.000Z"

var (
	intPart   = part[int64]{value.Int, value.Value.AsInt}
	floatPart = part[float64]{value.Float, value.Value.AsFloat}
	boolPart  = part[bool]{value.Bool, value.Value.AsBool}
	textPart  = part[string]{value.Text, value.Value.AsText}
	bytesPart = part[[]byte]{
		func(x []byte) value.Value { return value.Text(base64.StdEncoding.EncodeToString(x)) },
		func(v value.Value) ([]byte, bool) {
			text, ok := v.AsText()
			x, err := base64.StdEncoding.DecodeString(text)
			return x, ok && err == nil
		},
	}
	timePart = part[int64]{
		func(ms int64) value.Value { return value.Text(time.UnixMilli(ms).UTC().Format(moment)) },
		func(v value.Value) (int64, bool) {
			text, _ := v.AsText()
			t, err := time.Parse(time.RFC3339Nano, text)
			return t.UnixMilli(), err == nil
		},
	}
	durationPart = part[int64]{ // nanoseconds, as in package pantry
		func(ms int64) value.Value { return value.Int(ms * int64(time.Millisecond)) },
		func(v value.Value) (int64, bool) { n, ok := v.AsInt(); return n / int64(time.Millisecond), ok },
	}
)

// A ListKey is a key for lists whose items are of one kind.
type ListKey struct {
	keys *Keys
	list declaredList
}

// A declaredList is the key of a list with items of any kind: a *listOf[T].
type declaredList interface {
	anyKey
	Name() string
	Describe() string
	Parse(typed string) (*Items, error)
	Format(l *Items) (string, error)
	keep(n int)
	about(text string)
	bind(at pantry.Local, of *Namespace) (boundList, error)
	anyList() handover.AnyKey
}

// ListKey declares a key for lists, empty by default. kind is that of the items: int, float, bool, text,
// bytes, time or duration.
func (k *Keys) ListKey(name, kind string) *ListKey {
	l := &ListKey{keys: k}
	switch kind {
	case "int":
		l.list = newList[int64](k, l, name)
	case "float":
		l.list = newList[float64](k, l, name)
	case "bool":
		l.list = newList[bool](k, l, name)
	case "text":
		l.list = newList[string](k, l, name)
	case "bytes":
		l.list = newList[[]byte](k, l, name)
	case "time":
		l.list = newList[time.Time](k, l, name)
	case "duration":
		l.list = newList[time.Duration](k, l, name)
	default:
		k.add(l, func() {
			panic(handover.Misuse("%s has no items of kind %q; there are int, float, bool, text, bytes, time and duration", name, kind))
		})
	}
	return l
}

func (k *ListKey) declared() pantry.AnyKey {
	if k == nil || k.list == nil {
		return nil
	}
	return k.list.declared()
}

func (k *ListKey) of() *Keys { return k.keys }

func (k *ListKey) ready() error {
	if k == nil || k.list == nil {
		return handover.Misuse("this key was not declared with Keys")
	}
	return k.list.ready()
}

// Name returns the key's name, or "" for a key that was not declared.
func (k *ListKey) Name() string {
	if k.ready() != nil {
		return ""
	}
	return k.list.Name()
}

// Describe returns the text of About.
func (k *ListKey) Describe() string {
	if k.ready() != nil {
		return ""
	}
	return k.list.Describe()
}

// Parse parses what a user typed. The error has a sentence for the user.
func (k *ListKey) Parse(typed string) (*Items, error) {
	if err := k.ready(); err != nil {
		return nil, err
	}
	return k.list.Parse(typed)
}

// Format is the inverse of Parse: the text for an input.
func (k *ListKey) Format(l *Items) (string, error) {
	if err := k.ready(); err != nil {
		return "", err
	}
	return k.list.Format(l)
}

// Keep limits a list to its newest n items.
func (k *ListKey) Keep(n int) *ListKey {
	if k != nil && k.list != nil {
		k.list.keep(n)
	}
	return k
}

// About sets a description for lists and screens.
func (k *ListKey) About(text string) *ListKey {
	if k != nil && k.list != nil {
		k.list.about(text)
	}
	return k
}

// A listOf is the key of a list of T.
type listOf[T any] struct{ key[*Items, []T] }

func newList[T any](keys *Keys, self anyKey, name string) *listOf[T] {
	l := &listOf[T]{}
	l.begin(keys, self, form[*Items, []T]{
		func(items *Items) ([]T, error) {
			if items == nil {
				return nil, handover.Misuse("there is no list: make one with NewItems")
			}
			x, err := keydef.Of(l.k).DecodeUnchecked(value.List(items.all...))
			return keydef.Value[[]T](x), err // what is stored is checked by the key's rules
		},
		func(all []T) *Items {
			v, err := keydef.Of(l.k).EncodeUnchecked(&all)
			if err != nil {
				return &Items{}
			}
			return &Items{v.Items()}
		},
	}, func() pantry.Key[[]T] { return pantry.List[T](name) })
	return l
}

func (l *listOf[T]) keep(n int) {
	l.change(func(k pantry.Key[[]T]) pantry.Key[[]T] { return k.Keep(n) })
}

func (l *listOf[T]) about(text string) {
	l.change(func(k pantry.Key[[]T]) pantry.Key[[]T] { return k.About(text) })
}

func (l *listOf[T]) bind(at pantry.Local, of *Namespace) (boundList, error) {
	v := &varOf[T]{}
	return v, v.begin(&l.key, at, of)
}

// ListVar is a list in a namespace, or in a commit.
type ListVar struct{ list boundList }

// A boundList is a list in a namespace with items of any kind: a *varOf[T].
type boundList interface {
	Get() (*Items, error)
	Set(l *Items) error
	Seed(l *Items) error
	Clear() error
	Stored() (bool, error)
	Watch(r Runner, changed Handler) (*Watching, error)
	add(l *Items, unique bool) error
	remove(l *Items, all bool) error
	take(at int) (*Items, error)
}

// Bind returns the key's variable in a namespace that was opened with its keys.
func (k *ListKey) Bind(ns *Namespace) (*ListVar, error) { return k.in(ns.local(), ns) }

// In returns the key's variable in a commit.
func (k *ListKey) In(b *Batch) (*ListVar, error) { return k.in(b.local(), b.of()) }

func (k *ListKey) in(at pantry.Local, of *Namespace) (*ListVar, error) {
	if err := k.ready(); err != nil {
		return nil, err
	}
	l, err := k.list.bind(at, of)
	return made(&ListVar{l}, err)
}

// do calls a function with the list.
func (v *ListVar) do(f func(boundList) error) error {
	if v == nil || v.list == nil {
		return handover.Misuse("this variable was not made by a key's bind")
	}
	return f(v.list)
}

// Get returns the stored items, or none. It does not wait. Its only error is misuse.
func (v *ListVar) Get() (l *Items, err error) {
	err = v.do(func(b boundList) (err error) { l, err = b.Get(); return err })
	return l, err
}

// Set stores a list. When it returns, the list is on disk, or with Options.SyncWithin soon is. Items of
// another kind than the key's are wrong-kind.
func (v *ListVar) Set(l *Items) error { return v.do(func(b boundList) error { return b.Set(l) }) }

// Seed stores a list if nothing is stored, and otherwise does nothing.
func (v *ListVar) Seed(l *Items) error { return v.do(func(b boundList) error { return b.Seed(l) }) }

// Clear removes the stored list, so that Get returns none.
func (v *ListVar) Clear() error { return v.do(boundList.Clear) }

// Stored reports whether a usable list is stored; the error says what is wrong with it.
func (v *ListVar) Stored() (found bool, err error) {
	err = v.do(func(b boundList) (err error) { found, err = b.Stored(); return err })
	return found, err
}

// Watch calls changed after each change, by any process, and once at the beginning, until Stop.
func (v *ListVar) Watch(r Runner, changed Handler) (w *Watching, err error) {
	err = v.do(func(b boundList) (err error) { w, err = b.Watch(r, changed); return err })
	return w, err
}

// Append adds items at the end; with unique, only those that the list does not have.
func (v *ListVar) Append(items *Items, unique bool) error {
	return v.do(func(b boundList) error { return b.add(items, unique) })
}

// Remove removes the first item that is equal to each of items; with all, every equal item.
func (v *ListVar) Remove(items *Items, all bool) error {
	return v.do(func(b boundList) error { return b.remove(items, all) })
}

// Take removes an item and returns it, as a list of one: 0 is the first, -1 the last. If there is none,
// the error is absent.
func (v *ListVar) Take(at int) (item *Items, err error) {
	err = v.do(func(b boundList) (err error) { item, err = b.take(at); return err })
	return item, err
}

// A varOf is a list of T in a namespace.
type varOf[T any] struct{ variable[*Items, []T] }

func (v *varOf[T]) add(items *Items, unique bool) error {
	f := pantry.Append[[]T]
	if unique {
		f = pantry.AppendUnique[[]T]
	}
	return v.store(items, func(all []T) error { _, err := f(v.v, all...); return err })
}

func (v *varOf[T]) remove(items *Items, all bool) error {
	f := pantry.Remove[[]T]
	if all {
		f = pantry.RemoveAll[[]T]
	}
	return v.store(items, func(some []T) error { _, err := f(v.v, some...); return err })
}

func (v *varOf[T]) take(at int) (*Items, error) {
	one, found, err := pantry.Take(v.v, at)
	switch {
	case err != nil:
		return nil, handover.Coded(err)
	case !found:
		return nil, handover.Failure("absent", "the list has no item at that position", pantry.ErrAbsent)
	}
	return v.as.out([]T{one}), nil
}
