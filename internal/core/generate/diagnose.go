package generate

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
)

// diagnose looks for the place at which nothing fits, from the whole down to
// what is needed of it, and says why.
func (g *Generator) diagnose(seed uint64, edges bool) *Refused {
	s, seen := g.root, map[*schema]bool{}
	for !seen[s] {
		seen[s] = true
		var next *schema
		for _, x := range s.needed() {
			if x != nil && !seen[x] && !g.possible(x, seed, edges) {
				next = x
				break
			}
		}
		if next == nil {
			break
		}
		s = next
	}
	return &Refused{s.place, "no valid value was found: " + g.why(s)}
}

// needed returns the subschemas of which every value needs one that fits.
func (s *schema) needed() (out []*schema) {
	out = append(out, s.refs()...)
	out = append(out, s.allOf...)
	for _, name := range s.required {
		if x := s.properties[name]; x != nil {
			out = append(out, x)
		}
	}
	for i := range min(s.minItems, len(s.prefixItems)) {
		out = append(out, s.prefixItems[i])
	}
	if s.minItems > len(s.prefixItems) {
		out = append(out, s.items)
	}
	if s.contains != nil && s.minContains > 0 {
		out = append(out, s.contains)
	}
	return out
}

// possible reports whether a value of a subschema by itself is found.
func (g *Generator) possible(s *schema, seed uint64, edges bool) bool {
	for attempt := range uint64(4) {
		m := g.maker(seed, attempt, attempt, edges)
		m.effort = effort / 4
		if v, err := m.value([]*schema{s}, 1); err == nil && g.fits(s, simple(v)) {
			return true
		}
	}
	return false
}

// why describes what cannot be met.
func (g *Generator) why(s *schema) string {
	if s.never() {
		return "it is false, which nothing satisfies, and it is required"
	}
	m := g.maker(1, 1, 1, false)
	h := newShape()
	h.narrow(s)
	for _, x := range append(s.refs(), s.allOf...) {
		if x.always == nil {
			h.narrow(x)
		}
	}
	clash := func(k kinds, format string, args ...any) string {
		if h.kinds&^k != 0 && len(s.types) != 1 {
			return "" // another type could do
		}
		return fmt.Sprintf(format, args...)
	}
	text := ""
	switch {
	case h.kinds == 0:
		text = "no type is allowed by all of its parts"
	case h.listed && len(h.values) == 0:
		text = "const and enum of its parts have no value in common"
	case h.listed:
		text = "none of the listed values satisfies all the rest"
	case h.min != nil && h.max != nil && (h.min.Cmp(h.max) > 0 || h.min.Cmp(h.max) == 0 && (h.minOpen || h.maxOpen)):
		text = clash(kNumber, "the minimum, %s, is above the maximum, %s", number(h.min), number(h.max))
	case h.step != nil && h.min != nil && h.max != nil &&
		new(big.Rat).Mul(new(big.Rat).SetInt(quotient(h.max, h.step, false)), h.step).Cmp(h.min) < 0:
		text = clash(kNumber, "no multiple of %s lies between %s and %s", number(h.step), number(h.min), number(h.max))
	case h.maxLength != none && h.minLength > h.maxLength:
		text = clash(kString, "minLength %d is above maxLength %d", h.minLength, h.maxLength)
	case h.maxItems != none && h.minItems > h.maxItems:
		text = clash(kArray, "minItems %d is above maxItems %d", h.minItems, h.maxItems)
	case h.maxProps != none && max(h.minProps, len(h.required)) > h.maxProps:
		text = clash(kObject, "at least %d members are needed, but maxProperties is %d",
			max(h.minProps, len(h.required)), h.maxProps)
	case len(h.patterns)+len(h.formats) > 0 && h.kinds == kString:
		text = "no string has " + strings.Join(said(h), ", ") + " at once"
	case len(s.heldItems()) > 0 && !m.g.meets(s):
		text = "no item satisfies both items and contains"
	case h.unique && h.minItems > 1:
		text = clash(kArray, "no %d distinct items were found", h.minItems)
	case len(s.oneOf) > 0:
		text = "no value satisfies exactly one branch of oneOf, and the rest"
	case len(s.anyOf) > 0:
		text = "no branch of anyOf has a value that satisfies the rest"
	case s.not != nil:
		text = "whatever satisfies the rest satisfies not, too"
	}
	for _, name := range h.required {
		for _, x := range m.member(h, name) {
			if text == "" && x.never() {
				text = fmt.Sprintf("%q is required, but nothing is allowed there", name)
			}
		}
		if text == "" && !m.nameFits(h, name) {
			text = fmt.Sprintf("%q is required, but propertyNames does not accept that name", name)
		}
	}
	if text == "" {
		text = fmt.Sprintf("its keywords contradict each other, or it takes more than %d tries", effort)
	}
	return text
}

// heldItems returns what an item must fit that has to be contained.
func (s *schema) heldItems() []*schema {
	if s.contains == nil || s.minContains == 0 || s.items == nil {
		return nil
	}
	return []*schema{s.contains, s.items}
}

// meets reports whether an item that must be contained fits what items are.
func (g *Generator) meets(s *schema) bool {
	_, err := g.maker(1, 1, 1, false).value(s.heldItems(), deep)
	return err == nil
}

// said returns what a text must have, in words.
func said(h *shape) (out []string) {
	for _, p := range h.patterns {
		out = append(out, "the pattern "+p)
	}
	for _, f := range h.formats {
		out = append(out, "the format "+f)
	}
	for _, p := range h.without {
		out = append(out, "not the pattern "+p)
	}
	if h.minLength > 0 {
		out = append(out, fmt.Sprintf("at least %d characters", h.minLength))
	}
	if h.maxLength != none {
		out = append(out, fmt.Sprintf("at most %d characters", h.maxLength))
	}
	slices.Sort(out)
	return slices.Compact(out)
}
