package wire

import (
	"fmt"
	"net/http"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// A Problem is a refusal with its two readers (RFC 9457): Code and Detail are
// for the client, Err is for the log.
type Problem struct {
	Code       Code
	Status     int
	Detail     string       // a sentence for people
	Entry      *entry.Entry // with conflict: what is there
	Op         int          // which edit of a commit was refused; -1: it is about all of it
	RetryAfter int          // seconds; 0: not said
	Request    string       // by which the log knows it
	Err        error
}

// Refuse gives a problem of a code with a sentence.
func Refuse(code Code, format string, args ...any) *Problem {
	return &Problem{Code: code, Status: rowNamed(code).status, Detail: fmt.Sprintf(format, args...), Op: -1}
}

func (p *Problem) Error() string { return string(p.Code) + ": " + p.Detail }

// Unwrap gives the cause.
func (p *Problem) Unwrap() error { return p.Err }

// AppendJSON appends the problem as an object.
func (p *Problem) AppendJSON(dst []byte) []byte {
	o := scan.AppendObject(dst)
	o.Text("title", http.StatusText(p.Status))
	o.Int("status", int64(p.Status))
	o.Text("code", string(p.Code))
	o.Text("detail", p.Detail)
	if p.Op >= 0 {
		o.Int("op", int64(p.Op))
	}
	if p.Entry != nil {
		o.Dst = p.Entry.AppendJSON(o.Name("entry"))
	}
	o.TextIf("request", p.Request)
	return o.End()
}

// ReadProblem reads a problem; one without a code is none.
func ReadProblem(data []byte) (*Problem, error) {
	p := &Problem{}
	var code string
	var status, op int64 = 0, -1
	r := scan.New(data)
	err := r.Fields(value.MaxDepth, scan.To("code", &code), scan.To("detail", &p.Detail), scan.To("status", &status), scan.To("op", &op),
		scan.To("request", &p.Request), scan.To("entry", func() (err error) {
			p.Entry = &entry.Entry{}
			*p.Entry, err = entry.Read(r)
			return err
		}))
	p.Code, p.Status, p.Op = Code(code), int(status), int(op)
	if err == nil && p.Code == "" {
		err = fmt.Errorf("there is no code in it")
	}
	return p, err
}
