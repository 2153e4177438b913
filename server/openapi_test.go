package server_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// described is openapi.json, as far as the tests hold answers against it.
type described struct {
	OpenAPI    string
	Paths      map[string]map[string]operation
	Components struct{ Schemas map[string]schema }
	templates  map[string]*regexp.Regexp
}

type operation struct {
	Parameters []struct{ Name, In string }
	May        string `json:"x-may"`
	Responses  map[string]response
}

type response struct {
	Content map[string]struct{ Schema schema }
}

type schema map[string]any

var openAPI = sync.OnceValue(func() *described {
	raw, err := os.ReadFile("openapi.json")
	if err != nil {
		panic(err)
	}
	d := &described{templates: map[string]*regexp.Regexp{}}
	if err := json.Unmarshal(raw, d); err != nil {
		panic(err)
	}
	for path := range d.Paths {
		pattern := strings.ReplaceAll(regexp.QuoteMeta(path), `\{board\}`, `[^/]+`)
		pattern = strings.NewReplacer(`\{name\}`, `.+`, `\{token\}`, `[^/]+`).Replace(pattern)
		d.templates[path] = regexp.MustCompile("^" + pattern + "$")
	}
	return d
})

// find returns the description of a call.
func (d *described) find(method string, u *url.URL) (op operation, found bool) {
	op, found = d.Paths[d.template(u.EscapedPath())][strings.ToLower(method)]
	return op, found
}

// template returns the described path that a path matches; empty: none.
func (d *described) template(path string) string {
	path, _, _ = strings.Cut(path, "?")
	for of, template := range d.templates {
		if template.MatchString(path) {
			return of
		}
	}
	return ""
}

// check holds an answer against what is said of it.
func (d *described) check(t testing.TB, req *http.Request, a answer) {
	t.Helper()
	about := fmt.Sprintf("%s %s: %d %.300s", req.Method, req.URL, a.status, a.body)
	media, _, _ := strings.Cut(a.header.Get("Content-Type"), ";")
	problem := a.status >= 400
	if problem && req.Method != http.MethodHead {
		assert.Equal(t, "application/problem+json", media, about)
		assert.Empty(t, d.broken(schema{"$ref": "#/components/schemas/Problem"}, any(a.json), "problem"), about)
	}
	op, found := d.find(req.Method, req.URL)
	switch {
	case problem || !found:
		assert.True(t, problem || req.Method == http.MethodOptions || !strings.HasPrefix(req.URL.Path, "/v1/"), "not described: %s", about)
		return
	}
	said, found := op.Responses[fmt.Sprint(a.status)]
	require.True(t, found, "its status is not described: %s", about)
	for name := range req.URL.Query() {
		assert.True(t, slices.ContainsFunc(op.Parameters, func(p struct{ Name, In string }) bool { return p.In == "query" && p.Name == name }), "the parameter %s is not described: %s", name, about)
	}
	if a.status == http.StatusNotModified || a.status == http.StatusNoContent || req.Method == http.MethodHead {
		assert.Empty(t, a.body, about)
		return
	}
	content, found := said.Content[media]
	require.True(t, found, "its type is not described: %s", about)
	if media == "application/json" {
		assert.Empty(t, d.broken(content.Schema, any(a.json), "answer"), about)
	}
}

var patterns sync.Map // compiled, by their text

func compiled(pattern string) *regexp.Regexp {
	re, found := patterns.Load(pattern)
	if !found {
		re, _ = patterns.LoadOrStore(pattern, regexp.MustCompile(pattern))
	}
	return re.(*regexp.Regexp)
}

// broken says where a value is not as a schema has it: the part of JSON Schema that
// openapi.json uses.
func (d *described) broken(s schema, v any, at string) string {
	for keyword := range s {
		if !slices.Contains([]string{"$ref", "oneOf", "anyOf", "enum", "const", "type", "pattern", "format", "items", "properties", "required", "additionalProperties", "description", "minItems", "maxItems"}, keyword) {
			return "the schema has a keyword that the test does not know: " + keyword
		}
	}
	if ref, ok := s["$ref"].(string); ok {
		return d.broken(d.Components.Schemas[ref[strings.LastIndex(ref, "/")+1:]], v, at)
	}
	for _, keyword := range []string{"oneOf", "anyOf"} {
		schemas, ok := s[keyword].([]any)
		if !ok {
			continue
		}
		fits, why := 0, ""
		for _, one := range schemas {
			if bad := d.broken(one.(map[string]any), v, at); bad == "" {
				fits++
			} else {
				why += "; " + bad
			}
		}
		if fits == 0 || fits > 1 && keyword == "oneOf" {
			return fmt.Sprintf("%s fits %d of %d%s", at, fits, len(schemas), why)
		}
		return ""
	}
	if enum, ok := s["enum"].([]any); ok && !slices.Contains(enum, v) {
		return fmt.Sprintf("%s is %v, not one of %v", at, v, enum)
	}
	text, isText := v.(string)
	number, isNumber := v.(json.Number)
	switch s["type"] {
	case "string":
		if !isText {
			return fmt.Sprintf("%s is %v, no text", at, v)
		}
		if pattern, ok := s["pattern"].(string); ok && !compiled(pattern).MatchString(text) {
			return fmt.Sprintf("%s is %q, not as %s", at, text, pattern)
		}
	case "integer":
		if !isNumber || strings.ContainsAny(number.String(), ".eE") {
			return fmt.Sprintf("%s is %v, no integer", at, v)
		}
	case "number":
		if !isNumber {
			return fmt.Sprintf("%s is %v, no number", at, v)
		}
	case "boolean":
		if _, ok := v.(bool); !ok {
			return fmt.Sprintf("%s is %v, neither true nor false", at, v)
		}
	case "array":
		items, ok := v.([]any)
		if !ok {
			return fmt.Sprintf("%s is %v, no list", at, v)
		}
		of, _ := s["items"].(map[string]any)
		for i, item := range items {
			if bad := d.broken(of, item, fmt.Sprint(at, "/", i)); bad != "" {
				return bad
			}
		}
	case "object":
		members, ok := v.(map[string]any)
		if !ok {
			return fmt.Sprintf("%s is %v, no object", at, v)
		}
		properties, _ := s["properties"].(map[string]any)
		required, _ := s["required"].([]any)
		for _, name := range required {
			if _, ok := members[name.(string)]; !ok {
				return fmt.Sprintf("%s has no %v", at, name)
			}
		}
		for name, member := range members {
			of, known := properties[name].(map[string]any)
			if !known {
				return fmt.Sprintf("%s has a member %s", at, name)
			}
			if bad := d.broken(of, member, at+"/"+name); bad != "" {
				return bad
			}
		}
	}
	return ""
}

// The description is valid OpenAPI 3.1, has all routes, and is served unchanged.
func TestOpenAPI(t *testing.T) {
	t.Parallel()
	d := openAPI()
	assert.Equal(t, "3.1.0", d.OpenAPI)
	base, _ := start(t, t.TempDir())
	a := ask(t, "GET", base+"/openapi.json", "")
	assert.Equal(t, "application/json", a.header.Get("Content-Type"))
	raw, err := os.ReadFile("openapi.json")
	require.NoError(t, err)
	assert.Equal(t, string(raw), a.body)
	for path, operations := range d.Paths {
		at := base + strings.NewReplacer("{board}", "b", "{name}", "n").Replace(path)
		for _, method := range []string{"GET", "HEAD", "PUT", "POST", "DELETE", "PATCH"} {
			_, told := operations[strings.ToLower(method)]
			if told && strings.HasSuffix(path, "/events") {
				continue // it does not end
			}
			a := ask(t, method, at, "")
			assert.Equal(t, told, a.status != http.StatusMethodNotAllowed, "%s %s: %d", method, path, a.status)
			if !told && method != "HEAD" {
				assert.Equal(t, "method", a.code())
			}
		}
		for _, op := range operations {
			for _, answer := range op.Responses {
				for media, content := range answer.Content {
					assert.NotEmpty(t, content.Schema, "%s %s", path, media)
				}
			}
		}
	}
	bad := func(s, v string) string {
		var of schema
		require.NoError(t, json.Unmarshal([]byte(s), &of))
		var x any
		dec := json.NewDecoder(strings.NewReader(v))
		dec.UseNumber()
		require.NoError(t, dec.Decode(&x))
		return d.broken(of, x, "x")
	}
	entry := `{"$ref":"#/components/schemas/Entry"}`
	fine := `{"name":"a","kind":"int","value":1,"version":1,"updated":"2026-05-03T09:12:44.123Z"}`
	assert.Empty(t, bad(entry, fine))
	for _, spoilt := range []string{
		strings.Replace(fine, `"int"`, `"number"`, 1), strings.Replace(fine, `"version":1`, `"version":1.5`, 1), strings.Replace(fine, `.123Z`, `Z`, 1),
		strings.Replace(fine, `"name":"a",`, ``, 1), strings.Replace(fine, `"name"`, `"more":1,"name"`, 1), `[]`,
	} {
		assert.NotEmpty(t, bad(entry, spoilt), "the test sees %s", spoilt)
	}
}
