package generate

import (
	"bytes"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// without returns a schema without the keyword at a pointer.
func without(t *testing.T, text, at string) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	if at != "" {
		parts := strings.Split(at[1:], "/")
		v := doc
		for i, p := range parts {
			p = strings.NewReplacer("~1", "/", "~0", "~").Replace(p)
			switch x := v.(type) {
			case map[string]any:
				switch last := i == len(parts)-1; {
				case last && x[p] == false && i > 0 && strings.Contains("properties patternProperties", parts[i-1]):
					x[p] = true // one of several subschemas
				case last:
					delete(x, p)
				}
				v = x[p]
			case []any:
				n := 0
				for _, c := range p {
					n = 10*n + int(c-'0')
				}
				if i == len(parts)-1 {
					x[n] = true
				}
				v = x[n]
			}
		}
	}
	c := Compiler(loading{func(string) (any, error) { return nil, errNothing }})
	if err := c.AddResource("https://test.example/t.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("https://test.example/t.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A broken payload is refused by its schema, and taken by the same schema
// without the one keyword that its label names. Every keyword is broken.
func TestOneKeywordIsBroken(t *testing.T) {
	if testing.Short() {
		t.Skip("every keyword of every schema")
	}
	seen := map[string]int{}
	for name, text := range taken {
		if strings.HasPrefix(name, "the standard") || strings.HasPrefix(name, "draft 7 itself") {
			continue // large, and slow to validate without one keyword
		}
		g, err := New([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		whole := without(t, text, "")
		for seed := range uint64(25) {
			b, ok := g.Break(seed, seed%3)
			if !ok {
				break
			}
			v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Payload))
			if err != nil {
				t.Fatalf("%s: %s is not JSON", name, b.Payload)
			}
			if whole.Validate(v) == nil {
				t.Fatalf("%s, seed %d: %s fits; it should break %s at %q", name, seed, b.Payload, b.Schema, b.At)
			}
			if err := without(t, text, b.Schema).Validate(v); err != nil {
				t.Fatalf("%s, seed %d: %s breaks more than %s: %v", name, seed, b.Payload, b.Schema, err)
			}
			seen[b.Keyword]++
			if again, _ := g.Break(seed, seed%3); !bytes.Equal(again.Payload, b.Payload) {
				t.Fatalf("%s, seed %d: broken otherwise the second time", name, seed)
			}
		}
	}
	for _, keyword := range []string{"type", "enum", "const", "minimum", "maximum", "exclusiveMinimum",
		"exclusiveMaximum", "multipleOf", "minLength", "maxLength", "pattern", "format",
		"minItems", "maxItems", "uniqueItems", "required", "minProperties", "maxProperties", "additionalProperties",
		"dependentRequired", "properties", "patternProperties", "prefixItems",
		"anyOf", "oneOf", "not", "contains", "minContains", "maxContains", "items", "propertyNames",
		"unevaluatedProperties", "unevaluatedItems"} {
		if seen[keyword] == 0 {
			t.Errorf("%s was never broken", keyword)
		}
	}
	t.Log(seen)
	if g, _ := New([]byte(`{}`)); g != nil {
		if b, ok := g.Break(1, 1); ok {
			t.Errorf("a schema that takes all is broken by %s", b.Payload)
		}
	}
}
