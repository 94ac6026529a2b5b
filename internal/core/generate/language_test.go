package generate

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Texts that are made for several patterns at once have all of them, are as long
// as they may be, and lack what they must not have; where none is found, none of
// many texts that are made for one of the patterns has the others.
func TestPatternsTogether(t *testing.T) {
	patterns := []string{"^[a-c]+$", "b", "^.{3,6}$", "(ab)+", "^a", "c$", "^(?=.*b)[a-z]+$", "^[a-z]*[0-9]?$", "a{2}",
		"^(?:aa|bb|cc)*$", "[^b]$", "x|c"}
	g, err := New([]byte(`{}`))
	if err != nil {
		t.Fatal(err)
	}
	for i, p := range patterns {
		for _, q := range patterns[i:] {
			for _, without := range []string{"", "cc", "^b"} {
				h := newShape()
				h.patterns, h.minLength, h.maxLength = []string{p, q}, 2, 9
				if without != "" {
					h.without = []string{without}
				}
				fits := func(s string) bool {
					n := utf8.RuneCountInString(s)
					return matches(p, s) && matches(q, s) && n >= 2 && n <= 9 && (without == "" || !matches(without, s))
				}
				made := 0
				for seed := range uint64(12) {
					m := g.maker(seed, 1, 1, false)
					if s, ok := m.meeting(h); ok {
						made++
						if !fits(s) {
							t.Fatalf("%q is made for %s, %s, without %q", s, p, q, without)
						}
					}
				}
				if made > 0 {
					continue
				}
				for seed := range uint64(300) {
					if s, ok := g.maker(seed, 2, 1, false).pattern(p, 2, 9); ok && fits(s) {
						t.Fatalf("nothing is made for %s, %s, without %q, but %q is one", p, q, without, s)
					}
				}
			}
		}
	}
}

// Every format has texts that the validator takes, alone and with a length, also
// those that are made from its pattern.
func TestFormats(t *testing.T) {
	for name := range formats {
		g, err := New(fmt.Appendf(nil, `{"type":"string","format":%q}`, name))
		if err != nil {
			t.Fatal(err)
		}
		for seed := range uint64(60) {
			m := g.maker(seed, 1, 1, false)
			if s := formats[name](m); !HasFormat(name, s) {
				t.Errorf("%s: %q", name, s)
			}
			h := newShape()
			h.formats = []string{name}
			if s, ok := m.meeting(h); !ok || !HasFormat(name, s) {
				t.Errorf("%s by its pattern: %q", name, s)
			}
		}
	}
}

// What ECMA-262 writes otherwise than Go is read as it means it.
func TestTranslated(t *testing.T) {
	for _, c := range []struct {
		pattern string
		yes, no []string
	}{
		{`^\p{Script=Greek}+$`, []string{"αβγ"}, []string{"abc"}},
		{`^\p{Letter}\p{Decimal_Number}$`, []string{"é7"}, []string{"77"}},
		{`^\ud83d\ude00$`, []string{"😀"}, []string{"x"}},
		{`^\u{1F600}$`, []string{"😀"}, nil},
		{`^[\d\-\/]+$`, []string{"1-2/3"}, []string{"a"}},
		{`^\s$`, []string{"\u00a0", "\ufeff", " "}, []string{"x"}},
		{`^[^\s]$`, []string{"x"}, []string{"\u2003"}},
		{`^a{1200,1300}$`, []string{strings.Repeat("a", 1250)}, []string{strings.Repeat("a", 1100)}},
		{`^(ab|c){1001}$`, []string{strings.Repeat("ab", 1000) + "c"}, []string{"ab"}},
		{`^[a[]+$`, []string{"a["}, []string{"]"}},
		{`^(?<y>\d)\k<y>$`, []string{"77"}, []string{"78"}},
		{`^\cJ$`, []string{"\n"}, []string{"J"}},
		{`^[^]$`, []string{"\n", "x"}, []string{"xx"}},
	} {
		if _, err := engine(c.pattern); err != nil {
			t.Errorf("%s: %v", c.pattern, err)
			continue
		}
		for _, s := range c.yes {
			if !matches(c.pattern, s) {
				t.Errorf("%s is not found in %.20q", c.pattern, s)
			}
		}
		for _, s := range c.no {
			if matches(c.pattern, s) {
				t.Errorf("%s is found in %.20q", c.pattern, s)
			}
		}
	}
}

// Any two patterns that are met at once are both found in what is made.
func FuzzTogether(f *testing.F) {
	f.Add("^a+b?$", "b|aa", uint64(1))
	f.Add(`^\w{2,4}$`, `\d`, uint64(2))
	f.Add("(?=a)", "^(?!b)", uint64(3))
	f.Fuzz(func(t *testing.T, p, q string, seed uint64) {
		if len(p)+len(q) > 40 {
			return
		}
		for _, x := range []string{p, q} {
			if _, err := engine(x); err != nil {
				return
			}
		}
		h := newShape()
		h.patterns, h.maxLength = []string{p, q}, 12
		g, err := New([]byte(`{}`))
		if err != nil {
			t.Fatal(err)
		}
		v, err := g.maker(seed, 1, 1, false).text(h)
		if s, ok := v.(string); err == nil && (!ok || !matches(p, s) || !matches(q, s) ||
			utf8.RuneCountInString(s) > 12) {
			t.Errorf("%q is made for %q and %q", v, p, q)
		}
	})
}

// Schemas in several documents are read together; what is not there, or somewhere
// else, is said with its place.
func TestSeveralDocuments(t *testing.T) {
	files := map[string]string{
		"file:///p/ports.json": `{"$defs":{"port":{"enum":["holm","skerry"]}},"type":"array",` +
			`"items":{"$ref":"#/$defs/port"}}`,
		"file:///p/sub/a.json": `{"$id":"https://ferries.example/a","type":"object","required":["b"],` +
			`"properties":{"b":{"$ref":"b"}},"$defs":{"b":{"$id":"b","type":"integer","minimum":3,"maximum":4}}}`,
		"file:///p/old.json": `{"$schema":"http://json-schema.org/draft-04/schema#","type":"integer","minimum":1,` +
			`"exclusiveMinimum":true,"maximum":2}`,
	}
	load := func(uri string) (any, error) {
		text, ok := files[uri]
		if !ok {
			return nil, fmt.Errorf("%s is not there", uri)
		}
		return jsonschema.UnmarshalJSON(strings.NewReader(text))
	}
	for text, want := range map[string]string{
		`{"type":"object","required":["to","all"],"properties":{"to":{"$ref":"ports.json#/$defs/port"},` +
			`"all":{"$ref":"ports.json"}}}`: `"to":"`,
		`{"$ref":"sub/a.json"}`: `{"b":`,
		`{"$ref":"old.json"}`:   "2",
		`{"type":"object","properties":{"x":{"$ref":"none.json"}}}`:  "! file:///p/none.json is not there",
		`{"$ref":"ports.json#/$defs/harbour"}`:                       "! harbour",
		`{"$ref":"https://json-schema.org/draft/2020-12/meta/none"}`: "!",
	} {
		g, err := Open([]byte(text), "file:///p/main.json", load)
		var made []byte
		if err == nil {
			made, err = g.Make(1, 1)
		}
		if bad, ok := strings.CutPrefix(want, "!"); ok {
			if err == nil || !strings.Contains(err.Error(), strings.TrimSpace(bad)) {
				t.Errorf("%s: %s, %v, want %q", text, made, err, bad)
			}
		} else if err != nil || !strings.Contains(string(made), want) {
			t.Errorf("%s: %s, %v, want %q", text, made, err, want)
		}
	}
	g, err := Open([]byte(`{"type":"object","required":["n"],"properties":{"n":{"$ref":"sub/a.json"}}}`),
		"file:///p/main.json", load)
	if err != nil {
		t.Fatal(err)
	}
	if b, ok := g.Break(1, 3); !ok || g.whole.Validate(mustDecode(t, b.Payload)) == nil {
		t.Errorf("of several documents %s breaks %s", b.Payload, b.Schema)
	}
}

func mustDecode(t *testing.T, text []byte) any {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// What an annotation cannot mean is refused with its place.
func TestAnnotationsRefused(t *testing.T) {
	for text, want := range map[string]string{
		`7`:                     "must be an object",
		`{"gauss":{}}`:          `unknown "gauss"`,
		`{"normal":{"mean":1}}`: "deviation is missing",
		`{"lognormal":{"median":1,"spread":0.5}}`: "spread must be a factor",
		`{"zipf":{"of":0}}`:                       "expected a whole number",
		`{"zipf":{"of":5,"exponent":0.3}}`:        "exponent must be 0, 0.5",
		`{"weights":[1]}`:                         "the enum beside them has 0",
		`{"nulls":2}`:                             "a share from 0 to 1",
		`{"present":"often"}`:                     "a share from 0 to 1",
		`{"unique":true,"uniform":{}}`:            "a value has one of",
		`{"sequence":{"from":"yesterday"}}`:       "from must be a number or an RFC 3339 time",
		`{"sequence":{"text":"%s"}}`:              "invalid text",
		`{"sequence":{"text":"%d-%d"}}`:           "invalid text",
		`{"sequence":{"every":"often"}}`:          "every must be a duration",
		`{"types":{"tide":1}}`:                    `"tide" is not a type`,
		`{"pool":{"size":-1}}`:                    "expected a whole number",
	} {
		_, err := New([]byte(`{"properties":{"a":{"x-made":` + text + `}}}`))
		r, ok := errors.AsType[*Refused](err)
		if !ok || r.At != "/properties/a/x-made" || !strings.Contains(r.Text, want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// Members come as their names say, where the schema leaves it open.
func TestNames(t *testing.T) {
	schema := map[string]any{"type": "object", "additionalProperties": false}
	properties, required := map[string]any{}, []string{}
	for _, name := range []string{"customer_email", "createdAt", "phoneNumber", "postCode", "orderId", "countryCode",
		"format", "kid"} {
		properties[name] = map[string]any{"type": "string"}
		required = append(required, name)
	}
	for _, name := range []string{"latitude", "qty", "totalPrice"} {
		properties[name] = map[string]any{"type": "number"}
		required = append(required, name)
	}
	schema["properties"], schema["required"] = properties, required
	text, _ := json.Marshal(schema)
	g, err := New(text)
	if err != nil {
		t.Fatal(err)
	}
	hits := map[string]int{}
	const n = 300
	for i := range uint64(n) {
		made, err := g.Make(2, i)
		if err != nil {
			t.Fatal(err)
		}
		var v map[string]any
		_ = json.Unmarshal(made, &v)
		text := func(name string) string { return fmt.Sprint(v[name]) }
		number := func(name string) float64 { x, _ := v[name].(float64); return x }
		for name, is := range map[string]bool{"customer_email": HasFormat("email", text("customer_email")),
			"createdAt":   HasFormat("date-time", text("createdAt")),
			"phoneNumber": strings.HasPrefix(text("phoneNumber"), "+00 555"),
			"postCode":    strings.HasPrefix(text("postCode"), "BW"), "orderId": strings.Contains(text("orderId"), "-"),
			"countryCode": len(text("countryCode")) == 2,
			"latitude":    number("latitude") >= -60 && number("latitude") <= 70, "qty": number("qty") >= 1 &&
				number("qty") <= 20, "totalPrice": number("totalPrice") >= 1,
			"! format": HasFormat("date-time", text("format")), "! kid": strings.Contains(text("kid"), "-")} {
			if is {
				hits[name]++
			}
		}
	}
	for _, name := range required {
		if want := n / 2; slices.Contains([]string{"format", "kid"}, name) {
			if hits["! "+name] > 0 {
				t.Errorf("%s is taken for what its end reads as", name)
			}
		} else if hits[name] < want {
			t.Errorf("%s: %d of %d are what the name says", name, hits[name], n)
		}
	}
}

// The outline names what the schema says of each place, and errors have theirs.
func TestOutline(t *testing.T) {
	g, err := New([]byte(
		`{"$defs":{"port":{"enum":["a","b"]}},"type":"object","required":["to"],"minProperties":1,` +
			`"properties":{"to":{"$ref":"#/$defs/port"},"n":{"type":"integer","minimum":1,"maximum":5,"multipleOf":2},
		"tags":{"type":"array","maxItems":3,"uniqueItems":true,"items":{"type":"string","minLength":2,
		  "maxLength":2,"pattern":"^x"}},"when":{"type":["string","null"],"format":"date","x-made":{"nulls":0.5}},
		    "v":{"oneOf":[{"type":"null"},{"const":1}]}}}`))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range g.Outline() {
		got = append(got, fmt.Sprintf("%s %v %s", m.At, m.Required, m.Text))
	}
	want := []string{" true object, from 1 members", "/n false integer, 1 to 5, in steps of 2",
		"/tags false array, 0 to 3 items, all distinct", "/tags/* false string, ^x, 2 characters", "/to true one of 2",
		"/v false one of 2 forms", "/when false string or null, date, spread by x-made"}
	if !slices.Equal(got, want) {
		t.Errorf("outline\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	got = nil
	for _, f := range Faults(g.whole.Validate(mustDecode(t, []byte(`{"to":"c","n":7,"tags":["xx","xx"],"v":3}`)))) {
		got = append(got, f.At+" "+f.Text)
	}
	slices.Sort(got)
	for i, part := range []string{"/n", "/n", "/tags", "/to", "/v", "/v"} {
		if i >= len(got) || !strings.HasPrefix(got[i], part+" ") {
			t.Errorf("mistakes are at\n%s", strings.Join(got, "\n"))
			break
		}
	}
	if Faults(nil) != nil {
		t.Error("no error has mistakes")
	}
}

// Whatever is given as a schema, it is refused or payloads fit it; nothing else
// happens, and it takes no more than its effort.
func FuzzSchema(f *testing.F) {
	for _, text := range taken {
		if len(text) < 400 && !strings.Contains(text, "json-schema.org/dra") { // those of the standard are slow
			f.Add([]byte(text), uint64(1))
		}
	}
	for text := range refused {
		f.Add([]byte(text), uint64(2))
	}
	f.Fuzz(func(t *testing.T, text []byte, seed uint64) {
		if len(text) > 600 || strings.Contains(string(text), "e") && strings.ContainsAny(string(text), "0123456789") &&
			hugeNumber.Match(text) {
			return // numbers of a million digits
		}
		g, err := New(text)
		if err != nil {
			if _, ok := errors.AsType[*Refused](err); !ok {
				t.Fatalf("%s: %v is no refusal", text, err)
			}
			return
		}
		for n := range uint64(2) {
			for _, make := range []func(uint64, uint64) ([]byte, error){g.Make, g.Edge} {
				made, err := make(seed, n)
				if err != nil {
					if _, ok := errors.AsType[*Refused](err); !ok {
						t.Fatalf("%s: %v is no refusal", text, err)
					}
					return
				}
				if err := g.whole.Validate(mustDecode(t, made)); err != nil {
					t.Fatalf("%s: %s: %v", text, made, err)
				}
			}
		}
		if b, ok := g.Break(seed, 1); ok && g.whole.Validate(mustDecode(t, b.Payload)) == nil {
			t.Fatalf("%s: %s breaks nothing", text, b.Payload)
		}
		g.Outline()
	})
}

var hugeNumber = regexp.MustCompile(`[0-9][eE][+-]?[0-9]{3,}|[0-9]{5,}`)
