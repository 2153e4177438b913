package server

import (
	"mime"
	"net/http"
	"strconv"
	"strings"
)

// wantsText reports whether the client prefers the bare value, by its Accept header (RFC 9110,
// 12.5.1): text/plain has a higher quality than JSON, or the same quality and is named itself while
// JSON is not, or comes first. Ranges that can't be parsed are ignored.
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

// A preference is what an Accept header says of one media type.
type preference struct {
	q     float64
	exact int // 2: named itself, 1: by text/* or a similar range, 0: by */*
	at    int // position in the header; 0 means absent
}

// take uses a range if it is more specific for the type than the ranges before it.
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
