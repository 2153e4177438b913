package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// A problem is an error with its two readers: code and detail go to the
// client (RFC 9457), cause to the log.
type problem struct {
	code   string
	detail string
	entry  *ledger.Entry // with conflict: what is there
	after  int           // Retry-After, in seconds
	cause  error
}

func (p *problem) Error() string { return p.code + ": " + p.detail }

func (p *problem) Unwrap() error { return p.cause }

func refuse(code, format string, args ...any) error {
	return &problem{code: code, detail: fmt.Sprintf(format, args...)}
}

var statuses = map[string]int{
	"invalid":      http.StatusBadRequest,
	"unauthorized": http.StatusUnauthorized,
	"forbidden":    http.StatusForbidden,
	"absent":       http.StatusNotFound,
	"no-board":     http.StatusNotFound,
	"too-old":      http.StatusNotFound,
	"no-route":     http.StatusNotFound,
	"method":       http.StatusMethodNotAllowed,
	"wrong-kind":   http.StatusConflict,
	"out-of-range": http.StatusConflict,
	"conflict":     http.StatusPreconditionFailed,
	"too-large":    http.StatusRequestEntityTooLarge,
	"unsupported":  http.StatusUnsupportedMediaType,
	"internal":     http.StatusInternalServerError,
	"unavailable":  http.StatusServiceUnavailable,
	"quota":        http.StatusInsufficientStorage,
}

// asProblem gives the problem that err is for a client.
func asProblem(err error) *problem {
	var p *problem
	var damage *journal.DamageError
	var tooLong *http.MaxBytesError
	switch {
	case errors.As(err, &p):
		return p
	case errors.Is(err, value.ErrOutOfRange):
		return &problem{code: "out-of-range", detail: err.Error(), cause: err}
	case errors.Is(err, value.ErrWrongKind):
		return &problem{code: "wrong-kind", detail: err.Error(), cause: err}
	case errors.Is(err, ledger.ErrTooLarge):
		return &problem{code: "too-large", detail: err.Error(), cause: err}
	case errors.As(err, &tooLong):
		return &problem{code: "too-large", detail: fmt.Sprintf("the body is over %d bytes", tooLong.Limit), cause: err}
	case errors.Is(err, value.ErrInvalid):
		return &problem{code: "invalid", detail: err.Error(), cause: err}
	case errors.As(err, &damage):
		return &problem{code: "unavailable", detail: "the board's file is damaged, so that the server doesn't touch it; its operator can mend it", after: 60, cause: err}
	case errors.Is(err, ledger.ErrNotStored):
		return &problem{code: "unavailable", detail: "the server's disk refused the write; nothing was stored", after: 10, cause: err}
	case errors.Is(err, ledger.ErrUncertain):
		// Not "unavailable", after which a client may send the same again.
		return &problem{code: "internal", detail: "the server's disk failed; look at what is stored before writing again", cause: err}
	case errors.Is(err, ledger.ErrClosed), errors.Is(err, journal.ErrBusy):
		return &problem{code: "unavailable", detail: "the server is busy or about to stop; try again", after: 1, cause: err}
	}
	return &problem{code: "internal", detail: "the server failed; its log says how", cause: err}
}

// write answers with the problem. With tellEntry, what is there goes along.
func (p *problem) write(w http.ResponseWriter, id string) int {
	status := statuses[p.code]
	body := map[string]any{
		"title": http.StatusText(status), "status": status,
		"code": p.code, "detail": p.detail, "request": id,
	}
	if p.entry != nil {
		body["entry"] = wireEntry(*p.entry)
	}
	w.Header().Set("Content-Type", "application/problem+json")
	if p.after > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(p.after))
	}
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the client may have gone
	return status
}
