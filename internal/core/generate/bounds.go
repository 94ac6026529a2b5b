package generate

import (
	"encoding/json"
	"fmt"
)

// What is made has bounds, so that a schema that requests more than a machine has is refused
// and not tried.
const (
	// mostText is the most characters that a text may have to have.
	mostText = 16 << 20
	// mostLeast is the same for the items of a list.
	mostLeast = 1_000_000
	// mostNames is the same for the members of an object.
	mostNames = 10_000
	// mostParts bounds the subschemas of one file: compiling them takes time with their square.
	mostParts = 10_000
	// mostWeight bounds the subschemas that hold at one place, each as often as it is come to:
	// two references to two references and so on are a million after twenty steps.
	mostWeight = 100_000
	// mostFiltered is up to how many values of an enum are tried beforehand.
	mostFiltered = 1000
	// mostMade bounds a payload, in bytes, about.
	mostMade = 64 << 20
	// MostSize is the largest size that can be asked for, in bytes.
	MostSize = 256 << 20
)

// bounds are the keywords that ask for a least number, with what they count and its bound.
var bounds = map[string]struct {
	what string
	most int
}{
	"minLength": {"characters in a string", mostText}, "minItems": {"items in a list", mostLeast},
	"minContains": {"items in a list", mostLeast}, "minProperties": {"members of an object", mostNames},
}

// Until names what is asked, now and then, whether to go on: its error ends what is being
// made, and is returned. The generator asks no one without it.
func (g *Generator) Until(stop func() error) { g.stop = stop }

// stopped returns why nothing more is to be made, or nil.
func (g *Generator) stopped() error {
	if g.stop == nil {
		return nil
	}
	return g.stop()
}

// bounded refuses keywords of a schema that ask for more than is made.
func bounded(m map[string]any, place string) error {
	for _, key := range sorted(bounds) {
		n, ok := m[key].(json.Number)
		if b := bounds[key]; ok && whole(n) > b.most {
			return &Refused{place + "/" + key, fmt.Sprintf("it is %s; at most %d %s can be made", n, b.most, b.what)}
		}
	}
	return nil
}

// plainValues are the keywords whose values are not schemas.
var plainValues = map[string]bool{"enum": true, "const": true, "default": true, "examples": true, "example": true}

// parts counts the subschemas of a document, about.
func parts(v any) (n int) {
	switch v := v.(type) {
	case map[string]any:
		n = 1
		for key, x := range v {
			if !plainValues[key] {
				n += parts(x)
			}
		}
	case []any:
		for _, x := range v {
			n += parts(x)
		}
	}
	return n
}

// weigh refuses subschemas at whose place too much holds.
func (g *Generator) weigh() error {
	known := map[*schema]int{}
	var weight func(s *schema) int
	weight = func(s *schema) int {
		if s == nil {
			return 0
		}
		if n, ok := known[s]; ok {
			return n
		}
		known[s] = 1 // where it comes back to itself, it is not counted again
		n := 1
		for _, list := range [][]*schema{s.refs(), s.allOf, s.anyOf, s.oneOf, {s.not, s.when, s.then, s.otherwise}} {
			for _, x := range list {
				n = min(n+weight(x), mostWeight+1)
			}
		}
		for _, name := range sorted(s.dependentSchema) {
			n = min(n+weight(s.dependentSchema[name]), mostWeight+1)
		}
		known[s] = n
		return n
	}
	for _, s := range g.all {
		if weight(s) > mostWeight {
			return &Refused{s.place, fmt.Sprintf("more than %d subschemas apply at this one place, counting those "+
				"that are referred to by several", mostWeight)}
		}
	}
	return nil
}

// takesRoom enters bytes that are about to be made, and reports whether there is room for them.
func (m *maker) takesRoom(bytes int) bool {
	if m.room -= bytes; m.room < 0 {
		m.refuse("", "the payload has more than %d MiB, which is the limit", max(mostMade, m.g.size)>>20)
	}
	return m.room >= 0
}

// refuse ends what is being made.
func (m *maker) refuse(place, format string, args ...any) {
	if m.refused == nil {
		m.refused = &Refused{place, fmt.Sprintf(format, args...)}
	}
	m.effort = 0
}
