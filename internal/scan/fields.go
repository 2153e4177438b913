package scan

import "strconv"

// A Field describes a member of an object, for both reading and writing. At is a *string, *int64,
// *bool or *[]byte (raw JSON), a *Rest or a Form.
type Field struct {
	Name   string
	At     any
	Always bool // it is written even if it is empty
}

// A Form reads and writes a member of another type.
type Form struct {
	Read  func(r *Reader) error
	Write func(dst []byte) []byte // nil if the member is empty
}

// Rest holds the members of an object that its reader does not know, each preceded by a comma. They
// are kept, since a later version can know them.
type Rest []byte

// Keep adds a member whose name was just read.
func (rest *Rest) Keep(r *Reader, name []byte, depth int) error {
	*rest = append(AppendString(append(*rest, ','), string(name)), ':')
	raw, err := r.Raw(depth)
	*rest = append(*rest, raw...)
	return err
}

// Others is the field for all members that no other field names. It can't be the first field.
func Others(rest *Rest) Field { return Field{At: rest} }

// Maybe is a member that is left out if it is empty.
func Maybe(name string, at any) Field { return Field{name, at, false} }

// Always is a member that is always written.
func Always(name string, at any) Field { return Field{name, at, true} }

// List is the Form of a list whose items read and write handle.
func List[T any](at *[]T, read func(*Reader) (T, error), write func(T, []byte) []byte) Form {
	f := Form{Read: func(r *Reader) error {
		return r.Array(func() error {
			x, err := read(r)
			*at = append(*at, x)
			return err
		})
	}}
	f.Write = func(dst []byte) []byte {
		dst = append(dst, '[')
		for i, x := range *at {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = write(x, dst)
		}
		return append(dst, ']')
	}
	return f
}

// Fields reads an object. It ignores other members than fields, up to a nesting depth, unless the
// last field is Others.
func (r *Reader) Fields(depth int, fields ...Field) error {
	return r.Object(func(name []byte) (err error) {
		for _, f := range fields {
			if _, others := f.At.(*Rest); f.Name != string(name) && !others {
				continue
			}
			switch at := f.At.(type) {
			case *string:
				*at, err = r.String()
			case *int64:
				*at, err = r.Int()
			case *bool:
				*at, err = r.Bool()
			case *[]byte:
				*at, err = r.Raw(depth)
			case Form:
				err = at.Read(r)
			case *Rest:
				err = at.Keep(r, name, depth)
			}
			return err
		}
		_, err = r.Raw(depth)
		return err
	})
}

// ReadFields reads all of data as an object: see Fields.
func ReadFields(data []byte, depth int, fields ...Field) error {
	r := New(data)
	err := r.Fields(depth, fields...)
	if err == nil {
		err = r.End()
	}
	return err
}

// AppendFields appends an object.
func AppendFields(dst []byte, fields ...Field) []byte {
	o := AppendObject(dst)
	for _, f := range fields {
		switch at := f.At.(type) {
		case *string:
			if f.Always || *at != "" {
				o.Text(f.Name, *at)
			}
		case *int64:
			if f.Always || *at != 0 {
				o.Dst = strconv.AppendInt(o.Name(f.Name), *at, 10)
			}
		case *bool:
			if f.Always || *at {
				o.Dst = strconv.AppendBool(o.Name(f.Name), *at)
			}
		case *[]byte:
			if *at != nil {
				o.Dst = append(o.Name(f.Name), *at...)
			}
		case *Rest:
			o.Dst = append(o.Dst, *at...)
		case Form:
			if at.Write != nil {
				o.Dst = at.Write(o.Name(f.Name))
			}
		}
	}
	return o.End()
}
