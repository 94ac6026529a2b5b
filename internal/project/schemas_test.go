package project

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/payload"
)

func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// Schemas refer to files of the folder, by path or by $id, and to nothing else.
func TestSchemaFiles(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{
		"p/main.json": `{"type":"object","required":["a","b"],"properties":{"a":{"$ref":"sub/a.json"},` +
			`"b":{"$ref":"https://ferries.example/b.json#/$defs/n"}}}`,
		"p/sub/a.json": `{"$ref":"../c.json"}`,
		"p/c.json":     `{"const":"see"}`,
		"p/named.json": `{"$id":"https://ferries.example/b.json","$defs":{"n":{"type":"integer","minimum":7,` +
			`"maximum":7}}}`,
		"p/out.json":     `{"$ref":"../secret.json"}`,
		"p/away.json":    `{"$ref":"https://else.example/x.json"}`,
		"p/missing.json": `{"$ref":"nowhere.json"}`,
		"secret.json":    `{"type":"integer"}`,
	})
	g, read, err := Generator(t.Context(), filepath.Join(dir, "p/main.json"), filepath.Join(dir, "p"))
	if err != nil {
		t.Fatal(err)
	}
	if made, err := g.Make(1, 1); err != nil || !strings.Contains(string(made), `"a":"see","b":7`) {
		t.Errorf("%s, %v", made, err)
	}
	if len(read) != 4 {
		t.Errorf("read were %v", read)
	}
	if s, err := Schema(filepath.Join(dir, "p/main.json"), filepath.Join(dir, "p")); err != nil ||
		s.Validate(map[string]any{"a": "see", "b": json.Number("7")}) != nil {
		t.Errorf("the validator: %v", err)
	}
	for name, want := range map[string]string{"out.json": "outside the folder",
		"away.json": "is on the network; nothing is fetched", "missing.json": "nowhere.json"} {
		if _, _, err := Generator(t.Context(), filepath.Join(dir, "p", name), filepath.Join(dir, "p")); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}

func TestBytes(t *testing.T) {
	for text, want := range map[string]int{"": 0, "12": 12, "200kB": 200_000, "1.5 MiB": 3 << 19, "0.1KB": 100,
		"7 b": 7, "-1": -1, "1e9": -1, "x": -1, "2GiB": -1, "1/2kB": -1} {
		if n, err := Bytes(text); want >= 0 && (n != want || err != nil) || want < 0 && err == nil {
			t.Errorf("%q: %d, %v", text, n, err)
		}
	}
}

// A set is added to a project's file, and nothing else in it changes.
func TestAddSet(t *testing.T) {
	for before, want := range map[string]string{
		"nightdrill: 1\n": "nightdrill: 1\n\npayloads:\n  new: {recording: r}\n",
		"nightdrill: 1\npayloads:\n    # mine\n    a: {recording: x} # kept\n\ndrills: {}\n": "nightdrill: " +
			"1\npayloads:\n    new: {recording: r}\n    # mine\n    a: {recording: x} # kept\n\ndrills: {}\n",
		"payloads:\n  new: {recording: x}\n": "",
		"payloads: {a: {recording: x}}\n":    "! add this to it yourself: new: {recording: r}",
		"payloads: [\n":                      "! not valid YAML",
		"nightdrill: 1":                      "nightdrill: 1\n\npayloads:\n  new: {recording: r}\n",
	} {
		dir := t.TempDir()
		put(t, dir, map[string]string{File: before})
		added, err := AddSet(dir, "new", "{recording: r}")
		after, _ := os.ReadFile(filepath.Join(dir, File))
		switch bad, isBad := strings.CutPrefix(want, "! "); {
		case isBad:
			if err == nil || !strings.Contains(err.Error(), bad) || string(after) != before {
				t.Errorf("%q: %v, %q", before, err, after)
			}
		case want == "":
			if added || err != nil || string(after) != before {
				t.Errorf("%q, which has it: %v %v, %q", before, added, err, after)
			}
		case !added || err != nil || string(after) != want:
			t.Errorf("%q: %v %v, got\n%s\nwant\n%s", before, added, err, after, want)
		}
	}
	for name, good := range map[string]bool{"evening-2": true, "a.b_c": true, "": false, "../x": false, "a b": false,
		".x": false, "é": false} {
		if (SetName(name) == nil) != good {
			t.Errorf("%q as the name of a set: %v", name, SetName(name))
		}
	}
}

const api31 = `{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{
"/x/{id}":{"parameters":[{"name":"id","in":"path","required":true,"schema":{"$ref":"parts.json#/id"}}],
 "get":{"operationId":"getX","parameters":[
  {"name":"tags","in":"query","required":true,"schema":{"type":"array","items":{"const":"a b"},"minItems":2,
    "maxItems":2}},
  {"name":"flat","in":"query","required":true,"explode":false,"schema":{"type":"array","items":{"const":"f"},
    "minItems":2,"maxItems":2}},
  {"name":"pipe","in":"query","required":true,"style":"pipeDelimited","explode":false,"schema":{"type":"array",
    "items":{"const":"p"},"minItems":2,"maxItems":2}},
  {"name":"deep","in":"query","required":true,"style":"deepObject","schema":{"type":"object","required":["k"],
    "properties":{"k":{"const":1}},"additionalProperties":false}},
  {"name":"spread","in":"query","required":true,"schema":{"type":"object","required":["z"],
    "properties":{"z":{"const":"q"}},"additionalProperties":false}},
  {"name":"asJSON","in":"query","required":true,"content":{"application/json":{"schema":{"const":{"n":1}}}}},
  {"name":"X-A","in":"header","required":true,"schema":{"type":["integer","null"],"const":5}},
  {"$ref":"#/components/parameters/C"}],"responses":{}},
 "put":{"requestBody":{"required":true,"content":{"image/png":{},"multipart/form-data":{"schema":{"type":"object",
   "required":["n"],"properties":{"n":{"const":3}},"additionalProperties":false}},
     "text/csv":{"schema":{"type":"array","minItems":1,"maxItems":1,"items":{"type":"object","required":["c"],
       "properties":{"c":{"const":"v"}},"additionalProperties":false}}}}},"responses":{}}}},
"components":{"parameters":{"C":{"name":"sid","in":"cookie","required":true,"schema":{"const":"c c"}}}}}`

// Whole requests are made as OpenAPI writes their parameters and bodies.
func TestRequestsOfAnAPI(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"api.json": api31, "parts.json": `{"id":{"const":"a/b c"}}`,
		"two.json":  `{"swagger":"2.0","info":{"title":"t","version":"1"},"paths":{}}`,
		"none.yaml": "openapi: 3.0.0\ninfo: {title: t, version: '1'}\npaths: {}\n",
		"far.yaml": "openapi: 3.0.0\ninfo: {title: t, version: '1'}\npaths: {/x: {get: {parameters: [{$ref: " +
			"'https://else.example/p.json'}], responses: {}}}}\n"})
	a, err := LoadAPI(t.Context(), filepath.Join(dir, "api.json"), dir)
	if err != nil {
		t.Fatal(err)
	}
	one := func(name string, n uint64) (r payload.Payload) {
		t.Helper()
		found, err := a.Find(name)
		if err != nil || len(found) != 1 {
			t.Fatal(found, err)
		}
		if r, _, err = found[0].Make("valid", 1, n); err != nil {
			t.Fatal(err)
		}
		return r
	}
	get := one("getX", 0).Request
	path, query, _ := strings.Cut(get.Target, "?")
	values, err := url.ParseQuery(query)
	if path != "/x/a%2Fb%20c" || err != nil || !slices.Equal(values["tags"], []string{"a b", "a b"}) ||
		values.Get("flat") != "f,f" || values.Get("pipe") != "p|p" ||
		values.Get("deep[k]") != "1" || values.Get("z") != "q" || values.Get("asJSON") != `{"n":1}` {
		t.Errorf("%s, %v", get.Target, err)
	}
	if !strings.Contains(query, "flat=f,f&") || !strings.Contains(query, "pipe=p%7Cp") {
		t.Errorf("lists in one parameter: %s", query)
	}
	if h := fmt.Sprint(get.Header); !strings.Contains(h, "{X-A 5 ") || !strings.Contains(h, "{Cookie sid=c+c ") {
		t.Errorf("headers %s", h)
	}
	kinds := map[string]string{}
	for n := range uint64(3) {
		p := one("put /x/{id}", n).Request
		kind, _, _ := strings.Cut(p.Header[len(p.Header)-1].Value, ";")
		kinds[kind] = string(p.Body)
	}
	if len(kinds["image/png"]) == 0 || kinds["text/csv"] != "c\r\nv\r\n" ||
		!strings.Contains(kinds["multipart/form-data"], "name=\"n\"\r\n\r\n3\r\n") {
		t.Errorf("bodies %q", kinds)
	}
	for seed := range uint64(20) {
		_, breaks, err := a.Operations[0].Make("broken", seed, seed)
		if err != nil || breaks == "" {
			t.Errorf("broken: %q, %v", breaks, err)
		}
	}
	for name, want := range map[string]string{"two.json": "expected 3.0 or 3.1", "none.yaml": "describes no operations",
		"far.yaml": "nothing is fetched", "gone.yaml": "no such file"} {
		if _, err := LoadAPI(t.Context(), filepath.Join(dir, name), dir); err == nil || !strings.Contains(err.Error(),
			want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
}

// Sets are made, shaped and expected as the file says.
func TestSetsOfTheFile(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{File: `nightdrill: 1
functions:
  f: {start: [sh], deliver: shaped, shape: {template: event.tmpl, content_type: text/x}}
sources:
  web: {kind: http, wires: [{to: f}]}
  jobs: {kind: queue, wires: [{to: f}]}
payloads:
  asks: {recording: asks.har, expect: recorded, expect_each: {2: {status: [404, 410], leave_out: [/at]}}}
  bare: {recording: bare.ndjson, kind: json, time: /t, key: /k, type: own, fits: s.json}
  api: {openapi: api.json, operation: getX, count: 3, mode: edges}
  all: {openapi: api.json, count: 4}
  rows: {schema: rows.json, body: csv, count: 2}
  closed: {schema: s.json, count: 60}
  open: {schema: s.json, count: 60, extras: true}
  large: {schema: s.json, size: 5kB, count: 2, mode: broken}
`, "api.json": api31, "parts.json": `{"id":{"const":"x"}}`, "event.tmpl": "{{.Path}}{{.ID}}",
		"asks.har": `{"log":{"entries":[{"request":{"method":"GET","url":"http://h/a"},` +
			`"response":{"status":200}},{"request":{"method":"GET","url":"http://h/b"},"response":{"status":200}}]}}`,
		"bare.ndjson": `{"t":1777629600,"k":"BF","note":"n"}` + "\n",
		"s.json":      `{"type":"object","required":["note"],"properties":{"note":{"type":"string"}}}`,
		"rows.json": `{"type":"array","minItems":1,"items":{"type":"object","required":["c"],` +
			`"properties":{"c":{"const":"v"}},"additionalProperties":false}}`})
	l, err := Load(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	set := func(name string) *payload.Set {
		s, _, err := l.InSet(name)
		if s == nil || err != nil {
			t.Fatal(name, err)
		}
		return s
	}
	if s := set("asks"); !s.ExpectOf(0).Recorded || s.ExpectOf(1).Recorded || !slices.Equal(s.ExpectOf(1).Status,
		[]int{404, 410}) {
		t.Errorf("expected are %+v and %+v", s.ExpectOf(0), s.ExpectOf(1))
	}
	if e := set("bare").Payloads[0].Event; e.Type != "own" || e.Time.Unix() != 1777629600 ||
		fmt.Sprint(e.Extensions) != "[{partitionkey BF false}]" || set("bare").Fits == nil {
		t.Errorf("bare %+v", e)
	}
	if a, b := set("api").Payloads, set("all").Payloads; len(a) != 3 || len(b) != 4 || a[1].Request.Method != "GET" ||
		b[1].Request.Method != "PUT" {
		t.Error("requests of the API are others")
	}
	if e := set("rows").Payloads[1].Event; !strings.HasPrefix(string(e.Data), "c\r\nv\r\n") ||
		e.DataContentType != "text/csv; charset=utf-8" {
		t.Errorf("rows %+v", e)
	}
	for name, want := range map[string]bool{"closed": false, "open": true} {
		more := slices.ContainsFunc(set(name).Payloads,
			func(p payload.Payload) bool { return strings.Count(string(p.Data()), `":`) > 1 })
		if more != want {
			t.Errorf("%s: members that the schema does not name are made: %v", name, more)
		}
	}
	if m := set("large").Maker; m.Mode != "broken" || len(m.Outline) == 0 {
		t.Errorf("made by %+v", m)
	} else if p, breaks, err := m.Make("valid", 9, 4); err != nil || breaks != "" || p.Size() < 4000 {
		t.Errorf("made otherwise: %d bytes, %q, %v", p.Size(), breaks, err)
	}
	if body, kind, err := l.Functions[0].Shape.RequestBody(set("asks").Payloads[0].Request,
		"", time.Time{}, nil); string(body) != "/a" ||
		kind != "text/x" || err != nil {
		t.Errorf("shaped %q %s %v", body, kind, err)
	}
}
