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
	put := func(name, content string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	schema := put("pass.json",
		`{"type":"object","required":["pass"],"properties":{"pass":{"type":"string","pattern":"^BF-[0-9]{4}$"},`+
			`"deck":{"enum":["car","foot"]}},"additionalProperties":false}`)
	wrongSchema := put("wrong.json", `{"properties":{"n":{"type":"strnig"}}}`)
	nothing := put("nothing.json", `{"type":"integer","minimum":2,"maximum":1}`)
	anything := put("anything.json", `{}`)
	made := filepath.Join(dir, "made.ndjson")
	for _, c := range []struct {
		args []string
		code int
		want []string
	}{
		{[]string{"payloads"}, 2, []string{"list, show, generate, import, infer, validate or shape"}},
		{[]string{"payloads", "list"}, 0, []string{"asks  1 HTTP requests", "from asks.har"}},
		{[]string{"payloads", "show", "asks"}, 0,
			[]string{"GET /quote/skerry-holm?day=2026-11-20&vehicle=foot&passengers=1 HTTP/1.1"}},
		{[]string{"payloads", "show", "asks#2"}, 2, []string{"asks has payloads 1 to 1, not 2"}},
		{[]string{"payloads", "show", "aks"}, 2, []string{`no payload set "aks"; did you mean asks?`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "3"}, 0, []string{`"pass":"BF-`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "30", "--seed", "5", "--events", "--out",
			made}, 0, nil},
		{[]string{"payloads", "validate", made, "--schema", schema}, 0, []string{"30 of 30 payloads valid"}},
		{[]string{"payloads", "validate", "asks", "--schema", schema}, 1, []string{"asks#1: not valid JSON",
			"0 of 1 payload valid"}},
		{[]string{"payloads", "validate", "nowhere", "--schema", schema}, 2,
			[]string{`no payload set or file "nowhere"`}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "12", "--mode", "broken", "--events"}, 0,
			[]string{`"breaks":"required at the root"`, `"breaks":"pattern at /pass"`,
				`"breaks":"additionalProperties at the root"`}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "broken", "--count", "1"}, 0,
			[]string{"line 1 violates "}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "edges", "--count", "5"}, 0,
			[]string{`{"deck":`}},
		{[]string{"payloads", "generate", "--schema", schema, "--mode", "edgy"}, 2,
			[]string{"available: valid, edges, broken"}},
		{[]string{"payloads", "generate", "--schema", wrongSchema}, 2,
			[]string{"wrong.json: /properties/n/type: not a valid schema", "must be one of"}},
		{[]string{"payloads", "generate", "--schema", nothing}, 2,
			[]string{"nothing.json: /: no valid value was found"}},
		{[]string{"payloads", "generate", "--schema", anything, "--mode", "broken"}, 2,
			[]string{"nothing in it can be violated on its own"}},
		{[]string{"payloads", "generate", "--schema", filepath.Join(dir, "none.json")}, 2,
			[]string{"the schema cannot be read"}},
		{[]string{"payloads", "generate"}, 2, []string{"--schema FILE or --openapi FILE"}},
		{[]string{"payloads", "generate", "--schema", schema, "--count", "-1"}, 2, []string{"must not be negative"}},
		{[]string{"payloads", "generate", "--schema", schema, "--out", filepath.Join(schema, "x")}, 3,
			[]string{"cannot be written"}},
		{[]string{"payloads", "generate", "--schema", schema, "--out", filepath.Join(dir, "new", "folder", "x")}, 0,
			nil},
	} {
		expectCall(t, dir, c.args, c.code, c.want)
	}
	// the same seed gives the same bytes, another one others
	first, _ := os.ReadFile(made)
	for seed, same := range map[string]bool{"5": true, "6": false} {
		if out, _, _ := nightdrill(t, "payloads", "generate", "--schema", schema, "--count", "30", "--seed", seed,
			"--events"); (out == string(first)) != same {
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
	content := strings.Replace(string(yaml), "payloads:\n",
		"payloads:\n  made: {schema: pass.json, count: 5, request: {path: /quote/made}}\n", 1)
	content = strings.Replace(content, "payloads: asks, arrive", "payloads: made, arrive", 1)
	for name, content := range map[string]string{"nightdrill.yaml": content,
		"pass.json": `{"type":"object","required":["pass"],"properties":{"pass":{"type":"integer"}}}`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out, errs, code := nightdrill(t, "--project", dir, "fire", "fares", "made#5"); code != 0 ||
		!strings.Contains(out, "POST /quote/made") {
		t.Errorf("fired: exit %d\n%s%s", code, out, errs)
	}
	if out, errs, code := nightdrill(t, "--project", dir, "run", "short"); code != 0 ||
		!strings.Contains(out, "fares") {
		t.Errorf("drilled: exit %d\n%s%s", code, out, errs)
	}
}

// expectCall runs a command line in a project and looks at its exit code and what
// it says.
func expectCall(t *testing.T, dir string, args []string, want int, texts []string) {
	t.Helper()
	out, errs, code := nightdrill(t, append([]string{"--project", dir}, args...)...)
	if code != want {
		t.Errorf("%v: exit %d, want %d\n%s%s", args, code, want, out, errs)
	}
	for _, w := range texts {
		if !strings.Contains(out+errs, w) {
			t.Errorf("%v: without %q:\n%s%s", args, w, out, errs)
		}
	}
}

const describedAPI = `openapi: 3.0.3
info: {title: Fares, version: "1"}
paths:
  /quote/{crossing}:
    get:
      operationId: quote
      parameters:
        - {name: crossing, in: path, required: true, schema: {type: string, enum: [holm skerry]}}
        - {name: adults, in: query, required: true, schema: {type: integer, minimum: 1, maximum: 9}}
        - {name: extras, in: query, explode: false, schema: {type: array, items: {enum: [bike, dog]}, minItems: 2,
          maxItems: 2}}
        - {name: sid, in: cookie, required: true, schema: {type: string, pattern: "^[a-z]{3}$"}}
      responses: {"200": {description: ok}}
  /bookings:
    post:
      requestBody:
        required: true
        content:
          application/json: {schema: {$ref: "#/components/schemas/Booking"}}
          application/x-www-form-urlencoded: {schema: {$ref: "#/components/schemas/Booking"}}
      responses: {"201": {description: ok}}
  /scan:
    post:
      requestBody: {required: true, content: {application/xml: {schema: {type: object}}}}
      responses: {"201": {description: ok}}
components:
  schemas:
    Booking: {type: object, required: [seats, note], additionalProperties: false,
      properties: {seats: {type: integer, minimum: 0, exclusiveMinimum: true, maximum: 9}, note: {type: string,
        nullable: true}}}
`

// Recordings come in with their secrets redacted and their times kept, schemas are
// learned from them, and requests are made from an API's description; what is
// wrong is said with its place, and nothing is kept then.
func TestRecordingsComeIn(t *testing.T) {
	dir := lay(t, served, "")
	put := func(name, content string) string {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	access := put("in/access.log",
		`203.0.113.9 - - [12/May/2026:18:02:11 +0200] "GET /quote/a?token=t0ken HTTP/1.1" 200 188 "-" "kiosk"`+"\n")
	broken := put("in/broken.log", `203.0.113.9 - - [12/May/2026:18:02:11 +0200] "GET /quote/a HTTP/1.1" 200 188`+
		"\nnothing\n")
	bare := put("in/bare.ndjson", strings.Repeat(`{"at":1777629600,"who":{"mail":"ada@holm.example"},"n":1}`+"\n", 3))
	put("in/folder/a.csv", "x,y\n")
	put("in/folder/.hidden", "x")
	api := put("api.yaml", describedAPI)
	learned := filepath.Join(dir, "learned.json")
	file := filepath.Join(dir, "nightdrill.yaml")
	before, _ := os.ReadFile(file)
	for _, c := range []struct {
		args []string
		code int
		want []string
	}{
		{[]string{"payloads", "import", access, "--as", "evening"}, 0,
			[]string{"evening: 1 payload from a recording of kind access-log", "redacted: query token, 1 time",
				"added to payloads"}},
		{[]string{"payloads", "import", access, "--as", "evening"}, 2, []string{"payloads/evening.har already exists",
			"--replace"}},
		{[]string{"payloads", "show", "evening"}, 0, []string{"evening  1 HTTP requests from payloads/evening.har",
			"redacted target, in 1", "GET /quote/a?token=redacted-"}},
		{[]string{"payloads", "import", broken, "--as", "cut"}, 2, []string{"nothing was imported",
			"broken.log:2: not a line of an access log"}},
		{[]string{"payloads", "import", broken, "--as", "cut", "--skip-broken"}, 0,
			[]string{"cut: 1 payload", "skipped: ", "broken.log:2"}},
		{[]string{"payloads", "import", bare, "--as", "bare", "--time", "/at", "--redact", "/who/*"}, 0,
			[]string{"bare: 3 payloads", "redacted: data /who/mail, 3 times"}},
		{[]string{"payloads", "import", bare, "--as", "mails"}, 0,
			[]string{"looks like a secret and was kept: data /who/mail (e-mail address), 3 times"}},
		{[]string{"payloads", "import", bare, "--as", "x", "--time", "/none"}, 2,
			[]string{"bare.ndjson:1: no time at /none"}},
		{[]string{"payloads", "import", bare, "--as", "x", "--redact", "who"}, 2, []string{"who"}},
		{[]string{"payloads", "import", bare, "--as", "../x"}, 2, []string{"not a name for a payload set"}},
		{[]string{"payloads", "import", bare, "--as", "x", "--kind", "tape"}, 2,
			[]string{"unknown --kind \"tape\"; available: cloudevents"}},
		{[]string{"payloads", "import", filepath.Join(dir, "in", "folder"), "--as", "docs"}, 0,
			[]string{"docs: 1 payload from a recording of kind folder"}},
		{[]string{"payloads", "import", filepath.Join(dir, "in"), "--as", "x", "--kind", "har"}, 2,
			[]string{"is a folder", "--kind har needs a file"}},
		{[]string{"payloads", "show", "docs"}, 0, []string{`"subject": "a.csv"`, `"dataref": "file://`,
			`"content_type": "text/csv`, `"size": 4`}},
		{[]string{"payloads", "infer", "bare", "--out", learned}, 0, nil},
		{[]string{"payloads", "validate", "bare", "--schema", learned}, 0, []string{"3 of 3 payloads valid"}},
		{[]string{"payloads", "infer", "evening"}, 2, []string{"nothing in evening is valid JSON"}},
		{[]string{"payloads", "generate", "--openapi", api, "--count", "6"}, 0,
			[]string{"skipped: POST /scan: no body of the kind application/xml",
				"http://made.invalid/quote/holm%20skerry?adults=", `"name":"Cookie","value":"sid=`,
				`"mimeType":"application/x-www-form-urlencoded"`}},
		{[]string{"payloads", "generate", "--openapi", api, "--operation", "GET /quote"}, 2,
			[]string{"available: POST /bookings"}},
		{[]string{"payloads", "generate", "--openapi", bare}, 2, []string{"not OpenAPI 3"}},
		{[]string{"payloads", "generate", "--schema", learned, "--events", "--body", "form", "--count", "1"}, 0,
			[]string{`"datacontenttype":"application/x-www-form-urlencoded"`}},
		{[]string{"payloads", "generate", "--schema", learned, "--size", "9 bananas"}, 2,
			[]string{"--size: \"9 bananas\" is not a size"}},
		{[]string{"record", "--to", "nowhere", "--as", "r"}, 3, []string{"is not the URL of a service"}},
		{[]string{"record", "--as", "r"}, 2, []string{"missing --to URL"}},
		{[]string{"fire", "--all"}, 2, []string{"no payload of the project has expectations"}},
		{[]string{"check"}, 0, nil},
	} {
		expectCall(t, dir, c.args, c.code, c.want)
	}
	after, _ := os.ReadFile(file)
	if rest := strings.NewReplacer("  evening: {recording: payloads/evening.har}\n", "",
		"  cut: {recording: payloads/cut.har}\n", "", "  bare: {recording: payloads/bare.ndjson}\n", "",
		"  mails: {recording: payloads/mails.ndjson}\n", "", "  docs: {recording: payloads/docs.ndjson}\n",
		"").Replace(string(after)); rest != string(before) {
		t.Errorf("the project file is now\n%s", after)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "payloads", ".import-*")); len(left) > 0 {
		t.Errorf("%v are left behind", left)
	}
}
