package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/value"
)

// An entryBody is an entry on the wire.
type entryBody struct {
	Name    string       `json:"name"`
	Kind    string       `json:"kind"`
	Value   *value.Value `json:"value,omitempty"`
	Version int64        `json:"version"`
	Updated string       `json:"updated"`
	By      string       `json:"by,omitempty"`
	From    string       `json:"from,omitempty"`
}

const timeLayout = "2006-01-02T15:04:05.000Z"

func wireEntry(e ledger.Entry) entryBody {
	return entryBody{
		Name: e.Name, Kind: e.Value.Kind().String(), Value: &e.Value, Version: e.Version,
		Updated: e.Time().Format(timeLayout), By: e.By, From: e.From,
	}
}

// etag is the entity tag of an entry: its version, and when it was updated,
// in milliseconds, since a board that is made again counts anew.
func etag(rec *ledger.Record, suffix string) string {
	return fmt.Sprintf(`"%d-%d%s"`, rec.Version, rec.At, suffix)
}

// tags gives the entity tags of an If-Match or If-None-Match header, without
// quotes and weakness marks. A bare version is allowed among them.
func tags(header []string) []string {
	var out []string
	for _, h := range header {
		for tag := range strings.SplitSeq(h, ",") {
			tag = strings.TrimPrefix(strings.TrimSpace(tag), "W/")
			if tag = strings.Trim(tag, `"`); tag != "" {
				out = append(out, tag)
			}
		}
	}
	return out
}

// matches says whether one of tags means rec: *, its ETag in either form, or
// its version alone.
func matches(tags []string, rec *ledger.Record) bool {
	if !rec.Found() {
		return false
	}
	for _, tag := range tags {
		switch tag {
		case "*", strconv.FormatInt(rec.Version, 10),
			strings.Trim(etag(rec, ""), `"`), strings.Trim(etag(rec, "-t"), `"`):
			return true
		}
	}
	return false
}

// meets checks a write's conditions against what is there.
func meets(r *http.Request, name string, rec *ledger.Record) error {
	want := tags(r.Header.Values("If-Match"))
	unwanted := tags(r.Header.Values("If-None-Match"))
	var why string
	switch {
	case len(want) > 0 && !rec.Found():
		why = fmt.Sprintf("%s is absent, and was to be version %s", name, strings.Join(want, " or "))
	case len(want) > 0 && !matches(want, rec):
		why = fmt.Sprintf("%s is at version %d, and was to be at %s: somebody changed it", name, rec.Version, strings.Join(want, " or "))
	case len(unwanted) > 0 && matches(unwanted, rec):
		why = fmt.Sprintf("%s is there already, at version %d", name, rec.Version)
	default:
		return nil
	}
	p := &problem{code: "conflict", detail: why}
	if rec.Found() {
		p.entry = &ledger.Entry{Name: name, Record: rec}
	}
	return p
}

// writeJSON answers with a JSON body. What can't be sent any more, the client
// does not want.
func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}
