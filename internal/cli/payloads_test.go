package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Payloads are made, listed, shown and validated; what is wrong is said with its
// place.
func TestPayloads(t *testing.T) {
	dir := lay(t, served, "")
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	schema := put("pass.json", `{"type":"object","required":["pass"],"properties":{"pass":{"type":"string","pattern":"^BF-[0-9]{4}$"},"deck":{"enum":["car","foot"]}},"additionalProperties":false}`)
	wrongSchema := put("wrong.json", `{"properties":{"n":{"type":"strnig"}}}`)
	nothing := put("nothing.json", `{"type":"integer","minimum":2,"maximum":1}`)
	anything := put("anything.json", `{}`)
	made := filepath.Join(dir, "made.ndjson")
	for _, c := range []struct {
		args []string
		code int
		want []string
	}{
		{[]string{"payloads"}, 2, []string{"list, show, generate, import, infer or validate"}},
		{[]string{"payloads", "list"}, 0, []string{"asks  1 HTTP requests", "from asks.har"}},
		{[]string{"payloads", "show", "asks"}, 0, []string{"GET /quote/skerry-holm?day=2026-11-20&vehicle=foot&passengers=1 HTTP/1.1"}},
		{[]string{"payloads", "show", "asks#2"}, 2, []string{"asks has payloads 1 to 1, not 2"}},
		{[]string{"payloads", "show", "aks"}, 2, []string{`no payload set "aks"; did you mean asks?`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "3"}, 0, []string{`"pass":"BF-`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "30", "--seed", "5", "--events", "--out", made}, 0, nil},
		{[]string{"payloads", "validate", made, "--schema", schema}, 0, []string{"30 of 30 payloads fit"}},
		{[]string{"payloads", "validate", "asks", "--schema", schema}, 1, []string{"asks#1: not JSON", "0 of 1 payload fit"}},
		{[]string{"payloads", "validate", "nowhere", "--schema", schema}, 2, []string{`no payload set or file "nowhere"`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "12", "--mode", "broken", "--events"}, 0, []string{`"breaks":"required at the whole"`, `"breaks":"pattern at /pass"`, `"breaks":"additionalProperties at the whole"`}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "broken", "--count", "1"}, 0, []string{"line 1 breaks "}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "edges", "--count", "5"}, 0, []string{`{"deck":`}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "edgy"}, 2, []string{"there are valid, edges, broken"}},
		{[]string{"payloads", "generate", "--schema", wrongSchema}, 2, []string{"wrong.json: /properties/n/type: not a schema", "must be one of"}},
		{[]string{"payloads", "generate", "--schema", nothing}, 2, []string{"nothing.json: /: no value that fits was found"}},
		{[]string{"payloads", "generate", "--schema", anything, "--mode", "broken"}, 2, []string{"nothing in it can be violated by itself"}},
		{[]string{"payloads", "generate", "--schema", filepath.Join(dir, "none.json")}, 2, []string{"the schema cannot be read"}},
		{[]string{"payloads", "generate"}, 2, []string{"--schema FILE, or --openapi FILE"}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "-1"}, 2, []string{"the least is 0"}},
		{[]string{"payloads", "generate", "--schema", schema, "--out", filepath.Join(dir, "no", "x")}, 3, []string{"cannot be written"}},
	} {
		out, errs, code := nightdrill(t, append([]string{"--project", dir}, c.args...)...)
		if code != c.code {
			t.Errorf("%v: exit %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
		for _, w := range c.want {
			if !strings.Contains(out+errs, w) {
				t.Errorf("%v: without %q:\n%s%s", c.args, w, out, errs)
			}
		}
	}
	// the same seed gives the same bytes, another one others
	first, _ := os.ReadFile(made)
	for seed, same := range map[string]bool{"5": true, "6": false} {
		if out, _, _ := nightdrill(t, "payloads", "generate", "--schema", schema, "--count", "30", "--seed", seed, "--events"); (out == string(first)) != same {
			t.Errorf("seed %s gives the same: %v", seed, !same)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".nightdrill-*")); len(left) > 0 {
		t.Errorf("files are left: %v", left)
	}
}

// A set made from a schema is fired and drilled like any other.
func TestASetThatIsMade(t *testing.T) {
	dir := lay(t, served, "")
	yaml, _ := os.ReadFile(filepath.Join(dir, "nightdrill.yaml"))
	text := strings.Replace(string(yaml), "payloads:\n", "payloads:\n  made: {schema: pass.json, count: 5, request: {path: /quote/made}}\n", 1)
	text = strings.Replace(text, "payloads: asks, arrive", "payloads: made, arrive", 1)
	for name, text := range map[string]string{"nightdrill.yaml": text, "pass.json": `{"type":"object","required":["pass"],"properties":{"pass":{"type":"integer"}}}`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, errs, code := nightdrill(t, "--project", dir, "fire", "fares", "made#5"); code != 0 || !strings.Contains(out, "POST /quote/made") {
		t.Errorf("fired: exit %d\n%s%s", code, out, errs)
	}
	if out, errs, code := nightdrill(t, "--project", dir, "run", "short"); code != 0 || !strings.Contains(out, "fares") {
		t.Errorf("drilled: exit %d\n%s%s", code, out, errs)
	}
}
