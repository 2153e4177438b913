package wire

import (
	"fmt"
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Problem is a refusal for two readers (RFC 9457): the client gets Code and Detail, the log
// gets Err.
type Problem struct {
	Code       Code
	Status     int
	Detail     string       // a sentence for people
	Entry      *entry.Entry // with conflict: the present entry
	Near       []string     // with absent: names that the requested one nearly matches
	Op         int          // the index of the refused edit of a commit; -1 if it is about the whole commit
	RetryAfter int          // seconds; 0 means unknown
	Request    string       // the id of the request in the log
	Err        error
}

// Refuse returns a problem of a code with a sentence.
func Refuse(code Code, format string, args ...any) *Problem {
	return &Problem{Code: code, Status: rowNamed(code).status, Detail: fmt.Sprintf(format, args...), Op: -1}
}

func (p *Problem) Error() string { return string(p.Code) + ": " + p.Detail }

// Unwrap returns the cause.
func (p *Problem) Unwrap() error { return p.Err }

// fields lists the members of a problem. title and status come from Status.
func (p *Problem) fields(code, title *string, status, op *int64) []scan.Field {
	has := scan.Form{Read: func(r *scan.Reader) (err error) {
		p.Entry = &entry.Entry{}
		*p.Entry, err = entry.Read(r)
		return err
	}}
	if p.Entry != nil {
		has.Write = p.Entry.AppendJSON
	}
	near := scan.List(&p.Near, (*scan.Reader).String, func(s string, dst []byte) []byte { return scan.AppendString(dst, s) })
	if p.Near == nil {
		near.Write = nil
	}
	fields := []scan.Field{
		scan.Always("title", title), scan.Always("status", status), scan.Always("code", code), scan.Always("detail", &p.Detail),
		scan.Maybe("entry", has), scan.Maybe("near", near), scan.Maybe("request", &p.Request),
	}
	if op != nil {
		fields = append(fields, scan.Always("op", op))
	}
	return fields
}

// AppendJSON appends the problem as an object.
func (p *Problem) AppendJSON(dst []byte) []byte {
	code, title, status, op := string(p.Code), http.StatusText(p.Status), int64(p.Status), int64(p.Op)
	if op < 0 {
		return scan.AppendFields(dst, p.fields(&code, &title, &status, nil)...)
	}
	return scan.AppendFields(dst, p.fields(&code, &title, &status, &op)...)
}

// ReadProblem reads a problem. It must have a code.
func ReadProblem(data []byte) (*Problem, error) {
	p := &Problem{}
	var code, title string
	var status, op int64 = 0, -1
	err := scan.ReadFields(data, value.MaxDepth, p.fields(&code, &title, &status, &op)...)
	p.Code, p.Status, p.Op = Code(code), int(status), int(op)
	if err == nil && p.Code == "" {
		err = fmt.Errorf("it has no code")
	}
	return p, err
}
