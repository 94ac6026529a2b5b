package project

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Whatever a description says, it is refused, or requests can be made of its operations, or it is said why not.
func FuzzOpenAPI(f *testing.F) {
	f.Add([]byte(`openapi: 3.1.0
info: {title: fares, version: "1"}
paths:
  /quote/{crossing}:
    get:
      parameters:
        - {name: crossing, in: path, required: true, schema: {type: string, pattern: "^[a-z]+$"}}
        - {name: passengers, in: query, schema: {type: integer, minimum: 1}}
      responses: {"200": {description: ok}}
    post:
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Ask"}}}}
      responses: {"200": {description: ok}}
components: {schemas: {Ask: {type: object, required: [to], properties: {to: {enum: [holm, skerry]}}}}}
`))
	f.Add([]byte(`{"openapi": "3.0.3", "info": {"title": "x", "version": "1"}, "paths": {"/a": {"get": {}}}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		dir := t.TempDir()
		path := filepath.Join(dir, "api.yaml")
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		a, err := LoadAPI(ctx, path, dir)
		if err != nil {
			return
		}
		usable, left := Usable(a.Operations)
		if len(usable)+len(left) == 0 {
			t.Fatal("no operation, and nothing said of any")
		}
		for _, o := range usable {
			if p, _, err := o.Make("valid", 1, 0); err == nil && p.Request == nil {
				t.Fatalf("%+v", p)
			}
		}
	})
}
