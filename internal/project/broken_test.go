package project

import (
	"bytes"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/legacy"
)

const loose = `{"openapi":"3.0.3","info":{"title":"t","version":"1"},"servers":[{"url":"http://quay.example"}],"paths":{
"/sailings/{id}":{"get":{"operationId":"sailings","parameters":[
  {"name":"id","in":"path","required":true,"schema":{"type":"string","minLength":2}},
  {"name":"passengers","in":"query","schema":{"type":"integer","minimum":1,"maximum":9}},
  {"name":"name","in":"query","schema":{"type":"string","maxLength":8}},
  {"name":"open","in":"query","schema":{"type":"boolean"}},
  {"name":"class","in":"query","required":true,"schema":{"type":"string","enum":["deck","cabin"]}},
  {"name":"ports","in":"query","explode":false,"schema":{"type":"array","minItems":1,"items":{"type":"string",
    "enum":["holm","gull-point"]}}},
  {"name":"days","in":"query","schema":{"type":"array","items":{"type":"integer"}}},
  {"name":"X-Deck","in":"header","schema":{"type":"integer"}}],"responses":{"200":{"description":"ok"}}}},
"/passes":{"post":{"operationId":"passes","requestBody":{"required":true,"content":{
  "application/x-www-form-urlencoded":{"schema":{"type":"object","required":["pass"],
    "properties":{"pass":{"type":"string","pattern":"^BF-"},"seats":{"type":"integer"}}}}}},
      "responses":{"200":{"description":"ok"}}}},
"/notes":{"post":{"operationId":"notes","requestBody":{"required":true,
  "content":{"application/x-www-form-urlencoded":{"schema":{"type":"string"}}}},
    "responses":{"200":{"description":"ok"}}}},
"/plain":{"get":{"operationId":"plain","parameters":[{"name":"q","in":"query","schema":{"type":"string"}}],
  "responses":{"200":{"description":"ok"}}}}}}`

// Requests that are to be broken are refused by another reader of the description, as they
// go out, and those that are to be valid are taken. An operation of which none can be made is
// left out, and named.
func TestBrokenRequestsAreBroken(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, map[string]string{"api.json": loose})
	a, err := LoadAPI(t.Context(), filepath.Join(dir, "api.json"), dir)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := openapi3.NewLoader().LoadFromData([]byte(loose))
	if err != nil {
		t.Fatal(err)
	}
	router, err := legacy.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	usable, left := Usable(a.Operations)
	const unmade = "POST /notes: the body as application/x-www-form-urlencoded: a form needs an object"
	if len(usable) != 3 || len(left) != 1 || !strings.Contains(left[0].Error(), unmade) {
		t.Errorf("%d are usable, left are %v", len(usable), left)
	}
	for _, o := range usable {
		for _, mode := range []string{"valid", "broken"} {
			for seed := range uint64(150) {
				p, breaks, err := o.Make(mode, seed, seed%7)
				if o.ID == "plain" && mode == "broken" {
					if err == nil || !strings.Contains(err.Error(), "so that the request shows it") {
						t.Fatalf("%s cannot be broken, and is %s, breaks %s, %v", o.ID, p.Label(), breaks, err)
					}
					break
				}
				if err != nil {
					t.Fatal(o.ID, mode, err)
				}
				q, err := http.NewRequest(p.Request.Method, "http://quay.example"+p.Request.Target,
					bytes.NewReader(p.Request.Body))
				if err != nil {
					t.Fatal(err)
				}
				for _, h := range p.Request.Header {
					q.Header.Set(h.Name, h.Value)
				}
				route, params, err := router.FindRoute(q)
				if err == nil {
					in := openapi3filter.RequestValidationInput{Request: q, PathParams: params, Route: route}
					err = openapi3filter.ValidateRequest(t.Context(), &in)
				}
				if (err == nil) != (mode == "valid") {
					t.Errorf("%s, %s %d: %s %q, breaks %q: %v", o.ID, mode, seed, p.Request.Target, p.Request.Body,
						breaks, err)
				}
			}
		}
	}
}
