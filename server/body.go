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

// maxBody is the maximum length of a body. Up to drainBody more is read, so that a client sees the
// answer and not a broken connection.
const (
	maxBody   = ledger.MaxValue + 4<<10
	drainBody = 8 << 20
)

// body reads the request's body within its limit.
func (c *admitted) body() ([]byte, error) {
	if enc := c.header("Content-Encoding"); enc != "" {
		return nil, wire.Refuse("unsupported", "a body with Content-Encoding %s is not accepted; send it unencoded", enc)
	}
	return c.readBody(maxBody)
}

// kindIn returns the kind that a parameter names, or none if it is absent.
func kindIn(q url.Values, name string) (value.Kind, error) {
	k := q.Get(name)
	if k == "" {
		return value.KindNone, nil
	}
	return value.ParseKind(k)
}

// readPut reads the value of a PUT. JSON gets the entry's kind, or else the kind that it shows;
// ?as= is its kind if JSON can't express it, such as a time. Plain text, a body without a type, and
// curl's default are read as a person types them; ?as=text keeps the text. ?kind= also changes the
// kind of the entry.
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
	if given != "application/json" { // the usual type, which needs no parsing
		media, params, err = mime.ParseMediaType(given)
	}
	if err != nil && given != "" {
		return op, wire.Refuse("unsupported", "the Content-Type %s can't be read", scan.Quote(given))
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return op, wire.Refuse("unsupported", "the charset %s is not accepted; send UTF-8", scan.Quote(charset))
	}
	raw, err := c.bodyInTurn()
	if err == nil {
		err = c.answersLarge(len(raw)) // the answer has the value too
	}
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
		err = wire.Refuse("unsupported", "a body of type %s is not accepted: send application/json, text/plain or application/octet-stream", scan.Quote(media))
	}
	if err == nil && op.Form == value.FromJSON { // invalid JSON is refused for an entry of any kind
		if _, bad := value.ParseAny(raw); bad != nil {
			err = refuse.As(value.ErrInvalid, "the body can't be read as JSON: %v", bad)
		}
	}
	return op, err
}
