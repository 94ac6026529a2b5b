package payload

import (
	"net/url"
	"testing"

	"nightdrill.dev/internal/core/generate"
)

// In a form everything is a text: what is broken is so for whoever reads it by the schema.
func TestBrokenFormsAreBroken(t *testing.T) {
	g, err := generate.New(
		[]byte(`{"type":"object","required":["pass"],"properties":{"pass":{"type":"string"},` +
			`"seats":{"type":"integer"},"open":{"type":"boolean"}}}`))
	if err != nil {
		t.Fatal(err)
	}
	m := Made{Set: "passes", Method: "POST", Target: "/", Mode: "broken", Body: "form"}
	seen := map[string]bool{}
	for seed := range uint64(200) {
		data, breaks, err := m.Make(g, seed, 1)
		if err != nil {
			t.Fatal(err)
		}
		p, err := m.Payload(seed, 1, data, breaks)
		if err != nil {
			t.Fatal(err)
		}
		values, err := url.ParseQuery(string(p.Request.Body))
		if err != nil {
			t.Fatal(err)
		}
		// by hand, what such a reader would not take
		is := func(name string, of func(string) bool) bool {
			return len(values[name]) == 0 || len(values[name]) == 1 && of(values[name][0])
		}
		number := func(s string) bool { return s != "" && s != "text" && s != "0.5" && s != "true" && s != "{}" }
		truth := func(s string) bool { return s == "true" || s == "false" }
		if len(values["pass"]) == 1 && is("seats", number) && is("open", truth) {
			t.Errorf("seed %d: %q is not broken, for %s", seed, p.Request.Body, breaks)
		}
		seen[breaks] = true
	}
	if len(seen) < 3 {
		t.Errorf("broken are %v", seen)
	}
	if g, err = generate.New([]byte(`{"type":"string"}`)); err != nil {
		t.Fatal(err)
	}
	m.Body = "text"
	if data, breaks, err := m.Make(g, 1, 1); err == nil {
		t.Errorf("a text cannot be broken, and is %s, for %s", data, breaks)
	}
}
