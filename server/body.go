package server

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// maxBody is the longest body that is taken; up to drainBody more is read, so
// that a client sees the answer instead of a broken connection.
const (
	maxBody   = ledger.MaxValue + 4<<10
	drainBody = 8 << 20
)

// readBody reads a request's body within its limit.
func readBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	if enc := r.Header.Get("Content-Encoding"); enc != "" {
		return nil, refuse("unsupported", "a body with Content-Encoding %s is not taken; send it as it is", enc)
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, drainBody))
	if err == nil && len(b) > maxBody {
		err = &http.MaxBytesError{Limit: maxBody}
	}
	var tooLong *http.MaxBytesError
	if errors.As(err, &tooLong) {
		return nil, refuse("too-large", "the body is over %d bytes; a value has 1 MiB at most: keep what is larger in a file, and its name here", maxBody)
	}
	if err != nil {
		return nil, &problem{code: "invalid", detail: "the body did not arrive whole", cause: err}
	}
	return b, nil
}

// A putBody is the value in a PUT, which is read once the kind is known that
// the entry has.
type putBody struct {
	media string     // application/json, text/plain, application/octet-stream, or "" as typed
	as    value.Kind // the kind that the sender says the body is
	to    value.Kind // ?kind=: the kind that the entry is to have
	raw   []byte
}

// readPut reads the body of a PUT and what the request says of it. The
// parameter kind of application/json tells the kind that JSON can't, such as
// that of a time; unlike ?kind= it never changes the kind of an entry.
func readPut(w http.ResponseWriter, r *http.Request) (*putBody, error) {
	p := &putBody{}
	media, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil && r.Header.Get("Content-Type") != "" {
		return nil, refuse("unsupported", "the Content-Type %s can't be read", value.Quote(r.Header.Get("Content-Type")))
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return nil, refuse("unsupported", "the charset %s is not taken; send UTF-8", value.Quote(charset))
	}
	switch media {
	case "application/json", "text/plain", "application/octet-stream":
		p.media = media
	case "", "application/x-www-form-urlencoded":
	default:
		return nil, refuse("unsupported", "a body of type %s is not taken: send application/json, text/plain or application/octet-stream", value.Quote(media))
	}
	if k := r.URL.Query().Get("kind"); k != "" {
		if p.to, err = value.ParseKind(k); err != nil {
			return nil, err
		}
	}
	if k := params["kind"]; k != "" {
		if p.as, err = value.ParseKind(k); err != nil {
			return nil, err
		}
	}
	p.raw, err = readBody(w, r)
	return p, err
}

// read gives the value, of kind have where the entry has one.
func (p *putBody) read(name string, have value.Kind) (value.Value, error) {
	if p.to != value.KindNone {
		have = p.to
	}
	v, err := p.parse(have)
	if err == nil && have != value.KindNone {
		v, err = value.Convert(v, have)
	}
	switch {
	case err == nil && v.Kind() == value.KindNull:
		return v, refuse("invalid", "null is no value; DELETE %s to remove it", name)
	case err == nil:
		return v, v.Check()
	case p.to != value.KindNone:
		return v, &problem{code: "invalid", detail: fmt.Sprintf("the body can't be read as %s: %v", p.to, err), cause: err}
	case errors.Is(err, value.ErrWrongKind) || p.media != "application/json" && have != value.KindNone:
		return v, &problem{code: "wrong-kind", cause: err, detail: fmt.Sprintf(
			"%s is of kind %s, and %s can't be stored in it. Send %s, or add ?kind= with another kind to change what it is.",
			name, have, p.describe(), have)}
	}
	return v, err
}

func (p *putBody) parse(have value.Kind) (value.Value, error) {
	switch p.media {
	case "application/json":
		if p.as != value.KindNone {
			return value.Parse(p.as, p.raw)
		}
		v, err := value.ParseAny(p.raw)
		if err == nil && v.Kind() == value.KindText && have != value.KindText && (p.to != value.KindNone || !have.Number()) && have != value.KindNone {
			return value.Parse(have, p.raw)
		}
		return v, err
	case "application/octet-stream":
		return value.Bytes(p.raw), nil
	case "text/plain":
		if have == value.KindNone {
			have = value.KindText
		}
		return value.FromTyped(have, string(p.raw))
	}
	if have == value.KindNone {
		return value.Infer(string(p.raw))
	}
	return value.FromTyped(have, string(p.raw))
}

// describe names the body for a refusal.
func (p *putBody) describe() string {
	switch p.media {
	case "application/octet-stream":
		return "bytes"
	case "application/json":
		if v, err := value.ParseAny(p.raw); err == nil {
			if p.as != value.KindNone {
				return p.as.String() + " " + value.Quoted(v)
			}
			return v.Kind().String() + " " + value.Quoted(v)
		}
	}
	return value.Quote(string(p.raw))
}
