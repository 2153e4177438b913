package server

import (
	"mime"
	"net/url"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/refuse"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/value"
)

// maxBody is the longest body that is taken; up to drainBody more is read, so
// that a client sees the answer instead of a broken connection.
const (
	maxBody   = ledger.MaxValue + 4<<10
	drainBody = 8 << 20
)

// body reads the request's body within its limit.
func (c *call) body() ([]byte, error) {
	if enc := c.header("Content-Encoding"); enc != "" {
		return nil, wire.Refuse("unsupported", "a body with Content-Encoding %s is not taken; send it as it is", enc)
	}
	return c.readBody(maxBody)
}

// kindIn gives the kind that a parameter names; none where it is left out.
func kindIn(q url.Values, name string) (value.Kind, error) {
	k := q.Get(name)
	if k == "" {
		return value.KindNone, nil
	}
	return value.ParseKind(k)
}

// readPut reads what a PUT stores. JSON is of the kind that the entry has, or
// else of the one that it shows; ?as= says what it is where JSON can't tell, as
// of a time. Plain text, a body without a type, and what curl sends by itself
// are read as a person types; ?as=text keeps it text. ?kind= also changes what
// the entry is.
func (c *call) readPut() (op value.Op, err error) {
	op = value.Op{Verb: value.Put}
	q, err := c.query("as", "kind")
	if err != nil {
		return op, err
	}
	var as value.Kind
	if as, err = kindIn(q, "as"); err == nil {
		op.Kind, err = kindIn(q, "kind")
	}
	if err != nil {
		return op, err
	}
	given := c.header("Content-Type")
	media, params := given, map[string]string(nil)
	if given != "application/json" { // which most say, and is to be taken apart by nobody
		media, params, err = mime.ParseMediaType(given)
	}
	if err != nil && given != "" {
		return op, wire.Refuse("unsupported", "the Content-Type %s can't be read", scan.Quote(given))
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return op, wire.Refuse("unsupported", "the charset %s is not taken; send UTF-8", scan.Quote(charset))
	}
	raw, err := c.body()
	if err != nil {
		return op, err
	}
	switch media {
	case "application/json":
		op.Form, op.Raw = value.FromJSON, string(raw)
		if as != value.KindNone {
			op.Form = value.Known
			op.Operand, err = value.Parse(as, raw)
		}
	case "application/octet-stream":
		if op.Operand = value.Bytes(raw); as != value.KindNone && as != value.KindBytes {
			err = wire.Refuse(wire.Invalid, "a body of type application/octet-stream is bytes, not %s", as)
		}
	case "", "text/plain", "application/x-www-form-urlencoded":
		op.Form, op.Raw = value.AsTyped, string(raw)
		if as != value.KindNone {
			op.Form = value.Known
			op.Operand, err = value.FromTyped(as, op.Raw)
		}
	default:
		err = wire.Refuse("unsupported", "a body of type %s is not taken: send application/json, text/plain or application/octet-stream", scan.Quote(media))
	}
	if err == nil && op.Form == value.FromJSON { // what is no JSON is refused whatever the entry is
		if _, bad := value.ParseAny(raw); bad != nil {
			err = refuse.As(value.ErrInvalid, "the body can't be read as JSON: %v", bad)
		}
	}
	return op, err
}
