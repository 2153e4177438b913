package wire

import (
	"time"

	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Token describes a token. For a new one it includes the value for Bearer and the link, which are
// shown only once.
type Token struct {
	ID     string
	Token  string // ID.SECRET
	Link   string
	May    string // read, add, write or own
	Label  string
	Prefix string    // the prefix of its names; empty means all
	Until  time.Time // zero means without end
	Made   time.Time
	By     string // the label of the token that made this one
}

func (t *Token) fields() []scan.Field {
	return []scan.Field{
		scan.Always("id", &t.ID), scan.Maybe("token", &t.Token), scan.Maybe("link", &t.Link), scan.Always("may", &t.May),
		scan.Maybe("label", &t.Label), scan.Maybe("prefix", &t.Prefix), scan.Maybe("until", timeForm(&t.Until)),
		scan.Maybe("made", timeForm(&t.Made)), scan.Maybe("by", &t.By),
	}
}

// timeForm is the form of a time in RFC 3339. The zero time is left out.
func timeForm(at *time.Time) scan.Form {
	f := scan.Form{Read: func(r *scan.Reader) error {
		text, err := r.String()
		if err == nil {
			if *at, err = time.Parse(time.RFC3339, text); err != nil {
				err = refuse.As(value.ErrInvalid, "%s is not a time in RFC 3339, such as 2026-12-24T18:00:00Z", scan.Quote(text))
			}
		}
		return err
	}}
	if !at.IsZero() {
		f.Write = func(dst []byte) []byte { return scan.AppendString(dst, at.UTC().Format(time.RFC3339Nano)) }
	}
	return f
}

// AppendJSON appends the token as an object.
func (t Token) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, t.fields()...) }

// MarshalJSON returns the form of AppendJSON.
func (t Token) MarshalJSON() ([]byte, error) { return t.AppendJSON(nil), nil }

func readToken(r *scan.Reader) (t Token, err error) {
	err = r.Fields(value.MaxDepth, t.fields()...)
	return t, err
}

// ReadToken reads a token as AppendJSON writes it.
func ReadToken(data []byte) (t Token, err error) {
	if err = scan.ReadFields(data, value.MaxDepth, t.fields()...); err == nil && t.ID == "" {
		err = refuse.As(value.ErrInvalid, "it has no id")
	}
	return t, err
}

func tokens(board *string, list *[]Token) []scan.Field {
	return []scan.Field{scan.Always("board", board), scan.Always("tokens", scan.List(list, readToken, Token.AppendJSON))}
}

// AppendTokens appends a board's tokens as an object.
func AppendTokens(dst []byte, board string, list []Token) []byte {
	return scan.AppendFields(dst, tokens(&board, &list)...)
}

// ReadTokens reads what AppendTokens writes.
func ReadTokens(data []byte) (list []Token, err error) {
	var board string
	err = scan.ReadFields(data, value.MaxDepth, tokens(&board, &list)...)
	return list, err
}

// An Invitation describes a token to create.
type Invitation struct {
	May    string // read, add, write or own
	Label  string
	Prefix string
	Until  time.Time
}

func (i *Invitation) fields() []scan.Field {
	return []scan.Field{scan.Always("may", &i.May), scan.Maybe("label", &i.Label), scan.Maybe("prefix", &i.Prefix), scan.Maybe("until", timeForm(&i.Until))}
}

// AppendJSON appends the invitation as an object.
func (i Invitation) AppendJSON(dst []byte) []byte { return scan.AppendFields(dst, i.fields()...) }

// ReadInvitation reads an invitation, strictly. The error wraps value.ErrInvalid.
func ReadInvitation(data []byte) (i Invitation, err error) {
	var others scan.Rest
	err = scan.ReadFields(data, value.MaxDepth, append(i.fields(), scan.Others(&others))...)
	if err == nil && len(others) > 0 {
		name, _ := scan.New(others[1:]).String()
		err = refuse.As(value.ErrInvalid, "an invitation has no member %s; it has may, label, prefix, until", scan.Quote(name))
	}
	if err != nil {
		err = refuse.As(value.ErrInvalid, `the body is not an invitation such as {"may":"write","label":"shed"}: %v`, err)
	}
	return i, err
}
