package server

import (
	"mime"
	"net/http"
	"strconv"
	"strings"
)

// wantsText says whether the client asks for the bare value, by its Accept (RFC
// 9110, 12.5.1): text/plain has a higher quality than JSON, or the same and is named
// itself while JSON is not, or before it. A range that can't be read is passed over.
func wantsText(r *http.Request) bool {
	text, json := preference{}, preference{}
	at := 0
	for _, line := range r.Header["Accept"] {
		for part := range strings.SplitSeq(line, ",") {
			kind, params, err := mime.ParseMediaType(part)
			q := 1.0
			if s, given := params["q"]; given && err == nil {
				q, err = strconv.ParseFloat(s, 64)
			}
			if err != nil || q < 0 || q > 1 {
				continue
			}
			at++
			text.take(kind, "text/plain", q, at)
			json.take(kind, "application/json", q, at)
		}
	}
	switch {
	case text.q != json.q:
		return text.q > json.q
	case text.q == 0 || text.exact < 2:
		return false
	}
	return json.exact < 2 || text.at < json.at
}

// A preference is what an Accept says of one media type.
type preference struct {
	q     float64
	exact int // 2: by its name, 1: by text/* and the like, 0: by */*
	at    int // where it stands; 0: nowhere
}

// take takes in a range, if it is nearer to the type than what came before.
func (p *preference) take(kind, of string, q float64, at int) {
	exact := -1
	major, _, _ := strings.Cut(of, "/")
	switch kind {
	case of:
		exact = 2
	case major + "/*":
		exact = 1
	case "*/*":
		exact = 0
	}
	if exact >= 0 && (p.at == 0 || exact > p.exact) {
		*p = preference{q, exact, at}
	}
}
