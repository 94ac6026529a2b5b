package generate

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/jsondiff"
)

// Member is what a schema says of one place of its payloads.
type Member struct {
	At       string // a JSON Pointer, * for the items of a list
	Text     string // types and bounds, in words
	Required bool
}

const (
	// mostOutlined bounds the places of an outline, and deepestOutlined their depth.
	mostOutlined, deepestOutlined = 400, 6
)

// Validator returns the schema as the validator compiled it.
func (g *Generator) Validator() *jsonschema.Schema { return g.whole }

// Outline returns the places that the schema names, as far as no choice stands
// before them.
func (g *Generator) Outline() (out []Member) {
	var walk func(s *schema, at []string, required bool, refs int)
	walk = func(s *schema, at []string, required bool, refs int) {
		if len(out) >= mostOutlined || len(at) > deepestOutlined || refs > mostRefs || s == nil {
			return
		}
		place := jsondiff.Pointer(at)
		if i := slices.IndexFunc(out, func(m Member) bool { return m.At == place }); i < 0 {
			out = append(out, Member{place, g.says(s, 0), required})
		} else {
			if more := g.says(s, 0); more != "" && more != out[i].Text {
				out[i].Text = strings.Trim(out[i].Text+", "+more, ", ")
			}
			out[i].Required = out[i].Required || required
		}
		for _, name := range s.propNames {
			walk(s.properties[name], append(slices.Clip(at), name), slices.Contains(s.required, name), 0)
		}
		if s.items != nil && s.items.always == nil {
			walk(s.items, append(slices.Clip(at), "*"), false, 0)
		}
		for _, x := range append(s.refs(), s.allOf...) {
			walk(x, at, required, refs+1)
		}
	}
	walk(g.root, nil, true, 0)
	return out
}

// says returns what a schema by itself asks, in words.
func (g *Generator) says(s *schema, refs int) string {
	var parts []string
	say := func(is bool, format string, args ...any) {
		if is {
			parts = append(parts, fmt.Sprintf(format, args...))
		}
	}
	if s.always != nil {
		return map[bool]string{true: "anything", false: "nothing"}[*s.always]
	}
	say(s.types != nil, "%s", strings.Join(s.types, " or "))
	say(s.format != "", "%s", s.format)
	say(s.pattern != "", "%s", s.pattern)
	if s.enum != nil {
		parts = append(parts, fmt.Sprintf("one of %d", len(s.enum)))
	}
	say(s.hasConst, "%s", write(nil, s.constant))
	switch {
	case s.minimum != nil && s.maximum != nil:
		say(true, "%s to %s", number(s.minimum), number(s.maximum))
	case s.minimum != nil:
		say(true, "from %s", number(s.minimum))
	case s.maximum != nil:
		say(true, "to %s", number(s.maximum))
	}
	for i, r := range []*big.Rat{s.above, s.below, s.multipleOf} {
		if r != nil {
			say(true, "%s %s", [...]string{"above", "below", "in steps of"}[i], number(r))
		}
	}
	between := func(lo, hi int, what string) {
		switch {
		case hi != none && lo == hi:
			say(true, "%d %s", lo, what)
		case hi != none:
			say(true, "%d to %d %s", lo, hi, what)
		case lo > 0:
			say(true, "from %d %s", lo, what)
		}
	}
	between(s.minLength, s.maxLength, "characters")
	between(s.minItems, s.maxItems, "items")
	between(s.minProps, s.maxProps, "members")
	say(s.unique, "all distinct")
	say(len(s.oneOf) > 0, "one of %d forms", len(s.oneOf))
	say(len(s.anyOf) > 0, "any of %d forms", len(s.anyOf))
	say(s.when != nil, "with a condition")
	say(s.made != nil, "spread by %s", Keyword)
	return strings.Join(parts, ", ")
}

// Fault is an error of a value, with its place.
type Fault struct {
	At   string // a JSON Pointer
	Text string
}

// Faults returns the innermost errors of a validation's error.
func Faults(err error) (out []Fault) {
	v, ok := errors.AsType[*jsonschema.ValidationError](err)
	if !ok {
		return nil
	}
	var walk func(v *jsonschema.ValidationError)
	walk = func(v *jsonschema.ValidationError) {
		if len(v.Causes) == 0 {
			lines := strings.Split(strings.TrimSpace(v.Error()), "\n")
			text := strings.TrimPrefix(strings.TrimSpace(lines[len(lines)-1]), "- ")
			if _, rest, ok := strings.Cut(text, "': "); ok && strings.HasPrefix(text, "at '") {
				text = rest
			}
			out = append(out, Fault{jsondiff.Pointer(v.InstanceLocation), text})
		}
		for _, c := range v.Causes {
			walk(c)
		}
	}
	walk(v)
	return out
}
