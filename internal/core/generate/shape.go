package generate

import (
	"encoding/json"
	"errors"
	"math/big"
	"slices"
	"strconv"

	"nightdrill.dev/internal/core/rng"
)

// kinds is a set of JSON types.
type kinds uint8

const (
	kNull kinds = 1 << iota
	kBool
	kNumber
	kString
	kArray
	kObject
	kAny = 1<<iota - 1
)

var kindNames = map[string]kinds{"null": kNull, "boolean": kBool, "number": kNumber, "integer": kNumber,
	"string": kString, "array": kArray, "object": kObject}

// shape is all that holds at one place of a payload, one branch chosen of each
// choice.
type shape struct {
	kinds   kinds
	hints   kinds // types that keywords speak of
	integer bool
	values  []any // those that are allowed, where listed is set
	listed  bool

	min, max         *big.Rat
	minOpen, maxOpen bool
	step             *big.Rat // of which it is a multiple

	minLength, maxLength int
	patterns             []string
	without              []string // patterns that must not be found
	formats              []string

	tuples             []*schema // those with prefixItems or items
	contains           []*schema // those with contains
	minItems, maxItems int
	unique             bool
	restItems          []*schema // unevaluatedItems

	objects            []*schema // those with properties, patterns, or additional ones
	names              []*schema
	required           []string
	forbidden          []string
	minProps, maxProps int
	dependent          []*schema
	restProps          []*schema // unevaluatedProperties

	made    *annotation
	members map[string][]*schema // what members must fit, once it is known; nil where that is not kept
	mayBe   []string             // members that need not be there, once they are known
	later   []later              // dependentSchemas, decided when all that is required is known
	check   bool                 // only a validator can tell whether a value fits
}

type later struct {
	name string
	then *schema
}

var errNothing = errors.New("nothing fits")

func newShape() *shape {
	return &shape{kinds: kAny, maxLength: none, maxItems: none, maxProps: none}
}

func (h *shape) clone() *shape {
	c := *h
	c.mayBe, c.members = nil, nil
	for _, s := range []*[]*schema{&c.tuples, &c.contains, &c.restItems, &c.objects, &c.names, &c.dependent,
		&c.restProps} {
		*s = slices.Clip(*s) // what is added later is the copy's own
	}
	c.without = slices.Clip(c.without)
	c.patterns, c.formats, c.required, c.forbidden = slices.Clip(c.patterns), slices.Clip(c.formats),
		slices.Clip(c.required), slices.Clip(c.forbidden)
	c.later = slices.Clip(c.later)
	return &c
}

// flatten returns the shape of a place at which all the schemas hold.
func (m *maker) flatten(list []*schema, depth int) (*shape, error) {
	if len(list) == 1 && list[0].flat != nil {
		return list[0].flat, nil
	}
	h, err := m.combine(list, depth)
	if err == nil && len(list) == 1 && m.g.settled(list[0], 0) {
		h = h.clone()
		if h.listed && len(h.values) <= mostFiltered { // which of the values fit is found out once
			h.values = slices.DeleteFunc(slices.Clone(h.values), func(v any) bool { return !m.g.fits(list[0], v) })
			if h.check = false; len(h.values) == 0 {
				return nil, errNothing
			}
		}
		list[0].flat, h.members = h, map[string][]*schema{}
	}
	return h, err
}

// settled reports whether a schema has no choice to be made.
func (g *Generator) settled(s *schema, refs int) bool {
	if refs > mostRefs || len(s.anyOf) > 0 || len(s.oneOf) > 0 || s.when != nil || s.dependentSchema != nil {
		return false
	}
	for _, to := range s.refs() {
		if !g.settled(to, refs+1) {
			return false
		}
	}
	for _, x := range s.allOf {
		if !g.settled(x, refs+1) {
			return false
		}
	}
	return true
}

func (m *maker) combine(list []*schema, depth int) (*shape, error) {
	h := newShape()
	for _, s := range list {
		next, err := m.add(h, s, depth, 0)
		if err != nil {
			return nil, err
		}
		h = next
	}
	for len(h.later) > 0 {
		l := h.later[0]
		h = h.clone()
		h.later = h.later[1:]
		present := slices.Contains(h.required, l.name)
		if !present && !slices.Contains(h.forbidden, l.name) && !m.ends(depth) && m.r.Chance(1, 2) {
			with := h.clone()
			with.required = append(with.required, l.name)
			if next, err := m.add(with, l.then, depth, 0); err == nil && !next.empty() {
				h = next
				continue
			}
		}
		if !present {
			h.forbidden = append(h.forbidden, l.name)
			continue
		}
		next, err := m.add(h, l.then, depth, 0)
		if err != nil {
			return nil, err
		}
		h = next
	}
	if h.empty() {
		return nil, errNothing
	}
	return h, nil
}

// mostRefs bounds references that lead to one another at one place.
const mostRefs = 64

// add narrows a shape by a schema. The shape that is given stays as it is.
func (m *maker) add(h *shape, s *schema, depth, refs int) (*shape, error) {
	if s.always != nil {
		if !*s.always {
			return nil, errNothing
		}
		return h, nil
	}
	if refs > mostRefs {
		return nil, errNothing
	}
	h = h.clone()
	h.narrow(s)
	if h.empty() {
		return nil, errNothing
	}
	var err error
	for _, to := range s.refs() {
		if err == nil {
			h, err = m.add(h, to, depth, refs+1)
		}
	}
	for _, x := range s.allOf {
		if err == nil {
			h, err = m.add(h, x, depth, refs+1)
		}
	}
	if err == nil && s.when != nil {
		h, err = m.condition(h, s, depth, refs+1)
	}
	if err == nil && len(s.anyOf) > 0 {
		h, err = m.choose(h, s.anyOf, depth, refs+1, false)
	}
	if err == nil && len(s.oneOf) > 0 {
		h, err = m.choose(h, s.oneOf, depth, refs+1, true)
	}
	return h, err
}

// condition takes one side of if, then and else.
func (m *maker) condition(h *shape, s *schema, depth, refs int) (*shape, error) {
	holds := func() (*shape, error) {
		next, err := m.add(h, s.when, depth, refs)
		if err == nil && s.then != nil {
			next, err = m.add(next, s.then, depth, refs)
		}
		return next, err
	}
	fails := func() (*shape, error) {
		next := h.clone()
		next.check = true // that it does not hold is for the validator to tell
		if s.otherwise != nil {
			return m.add(next, s.otherwise, depth, refs)
		}
		return next, nil
	}
	first, second := holds, fails
	if m.r.Chance(1, 2) {
		first, second = fails, holds
	}
	if next, err := first(); err == nil && !next.empty() {
		return next, nil
	}
	return second()
}

// choose takes one branch, of anyOf now and then two; of oneOf the others must
// not fit. Deep in a payload the branch that ends soonest is taken.
func (m *maker) choose(h *shape, branches []*schema, depth, refs int, alone bool) (*shape, error) {
	order := m.order(len(branches))
	if m.ends(depth) {
		slices.SortStableFunc(order, func(a, b int) int { return branches[a].cost - branches[b].cost })
	}
	for n, i := range order {
		if m.ends(depth) && branches[i].cost >= endless {
			continue
		}
		next, err := m.add(h, branches[i], depth, refs)
		if err != nil || next.empty() {
			continue
		}
		if alone {
			next = next.clone()
			next.check = true // that the others do not fit is for the validator to tell
		} else if n+1 < len(order) && !m.ends(depth) && m.r.Chance(1, 4) {
			if both, err := m.add(next, branches[order[n+1]], depth, refs); err == nil && !both.empty() {
				next = both
			}
		}
		return next, nil
	}
	return nil, errNothing
}

// narrow adds the assertions of a schema itself.
func (h *shape) narrow(s *schema) {
	if s.types != nil {
		var k kinds
		wholeOnly := true
		for _, t := range s.types {
			k |= kindNames[t]
			wholeOnly = wholeOnly && t != "number"
		}
		h.kinds &= k
		h.integer = h.integer || wholeOnly && k&kNumber != 0
	}
	if s.made != nil {
		h.made = s.made
	}
	if s.hasConst {
		h.allow([]any{s.constant})
	}
	if s.enum != nil {
		h.allow(s.enum)
	}
	h.narrowNumber(s)
	h.minLength = max(h.minLength, s.minLength)
	h.maxLength = least(h.maxLength, s.maxLength)
	h.minItems = max(h.minItems, s.minItems)
	h.maxItems = least(h.maxItems, s.maxItems)
	h.minProps = max(h.minProps, s.minProps)
	h.maxProps = least(h.maxProps, s.maxProps)
	h.unique = h.unique || s.unique
	if s.minLength > 0 || s.maxLength != none || s.pattern != "" || s.format != "" {
		h.hints |= kString
	}
	if s.pattern != "" {
		h.patterns = append(h.patterns, s.pattern)
	}
	if s.format != "" {
		h.formats = append(h.formats, s.format)
		h.check = h.check || len(h.formats) > 1 || len(h.patterns) > 0 || formats[s.format] == nil
	}
	if s.prefixItems != nil || s.items != nil {
		h.tuples = append(h.tuples, s)
	}
	if s.contains != nil {
		h.contains, h.check = append(h.contains, s), true
	}
	if s.unevaluatedItems != nil {
		h.restItems, h.check = append(h.restItems, s.unevaluatedItems), true
	}
	if s.prefixItems != nil || s.items != nil || s.contains != nil || s.minItems > 0 || s.maxItems != none ||
		s.unique || s.unevaluatedItems != nil {
		h.hints |= kArray
	}
	if s.properties != nil || s.patternProps != nil || s.additional != nil {
		h.objects = append(h.objects, s)
	}
	if s.names != nil {
		h.names = append(h.names, s.names)
	}
	if s.required != nil {
		h.required = uniqueNames(append(h.required, s.required...))
	}
	if s.dependent != nil {
		h.dependent = append(h.dependent, s)
	}
	if s.dependentSchema != nil {
		for _, name := range sorted(s.dependentSchema) {
			h.later = append(h.later, later{name, s.dependentSchema[name]})
		}
	}
	if s.unevaluated != nil {
		h.restProps, h.check = append(h.restProps, s.unevaluated), true
	}
	if s.properties != nil || s.patternProps != nil || s.additional != nil || s.names != nil || s.required != nil ||
		s.minProps > 0 || s.maxProps != none || s.dependent != nil || s.dependentSchema != nil || s.unevaluated != nil {
		h.hints |= kObject
	}
	if s.not != nil {
		h.check = true
		if s.not.pattern != "" && s.not.onlyPattern {
			h.without = append(h.without, s.not.pattern)
		}
	}
}

func (h *shape) narrowNumber(s *schema) {
	lower := func(r *big.Rat, open bool) {
		if r == nil {
			return
		}
		h.hints |= kNumber
		if h.min == nil || r.Cmp(h.min) > 0 || r.Cmp(h.min) == 0 && open {
			h.min, h.minOpen = r, open
		}
	}
	upper := func(r *big.Rat, open bool) {
		if r == nil {
			return
		}
		h.hints |= kNumber
		if h.max == nil || r.Cmp(h.max) < 0 || r.Cmp(h.max) == 0 && open {
			h.max, h.maxOpen = r, open
		}
	}
	lower(s.minimum, false)
	lower(s.above, true)
	upper(s.maximum, false)
	upper(s.below, true)
	if s.multipleOf != nil {
		h.hints |= kNumber
		h.step = common(h.step, s.multipleOf)
	}
}

// common returns the least common multiple of two steps.
func common(a, b *big.Rat) *big.Rat {
	if a == nil {
		return b
	}
	// of fractions p/q and r/s it is lcm(p·s, r·q) / (q·s)
	q := new(big.Int).Mul(a.Denom(), b.Denom())
	x, y := new(big.Int).Mul(a.Num(), b.Denom()), new(big.Int).Mul(b.Num(), a.Denom())
	lcm := new(big.Int).Mul(x, y)
	lcm.Div(lcm, new(big.Int).GCD(nil, nil, x, y))
	return new(big.Rat).SetFrac(lcm, q)
}

// allow keeps the values that are in a list too. Whether they fit all the rest
// is for the validator to tell.
func (h *shape) allow(values []any) {
	h.check = true
	if !h.listed {
		h.values, h.listed = values, true
		return
	}
	kept := []any{}
	for _, v := range h.values {
		if slices.ContainsFunc(values, func(w any) bool { return same(v, w) }) {
			kept = append(kept, v)
		}
	}
	h.values = kept
}

// same reports whether two values are equal as JSON Schema has it.
func same(a, b any) bool { return identity(a) == identity(b) }

// identity writes a value so that equal ones are written alike: numbers by their
// value (JSON Schema 2020-12, Core §4.2.2).
func identity(v any) string { return string(identify(nil, v)) }

func identify(b []byte, v any) []byte {
	switch v := v.(type) {
	case json.Number:
		return append(b, rat(v).RatString()...)
	case []any:
		b = append(b, '[')
		for _, x := range v {
			b = append(identify(b, x), ',')
		}
		return append(b, ']')
	case *object:
		b = append(b, '{')
		for i, name := range v.names {
			b = append(identify(append(strconv.AppendQuote(b, name), ':'), v.values[i]), ',')
		}
		return append(b, '}')
	case map[string]any:
		b = append(b, '{')
		for _, name := range sorted(v) {
			b = append(identify(append(strconv.AppendQuote(b, name), ':'), v[name]), ',')
		}
		return append(b, '}')
	case string:
		return strconv.AppendQuote(b, v)
	}
	return write(b, v)
}

// least returns the smaller of two bounds, of which none is no bound.
func least(a, b int) int {
	if a == none || b != none && b < a {
		return b
	}
	return a
}

// empty reports whether it can be seen already that no value fits.
func (h *shape) empty() bool {
	if h.kinds == 0 || h.listed && len(h.values) == 0 {
		return true
	}
	k := h.kinds
	if h.min != nil && h.max != nil {
		if c := h.min.Cmp(h.max); c > 0 || c == 0 && (h.minOpen || h.maxOpen) {
			k &^= kNumber
		}
	}
	if h.maxLength != none && h.maxLength < h.minLength {
		k &^= kString
	}
	if h.maxItems != none && h.maxItems < h.minItems {
		k &^= kArray
	}
	if h.maxProps != none && h.maxProps < max(h.minProps, len(h.required)) {
		k &^= kObject
	}
	for _, name := range h.required {
		if slices.Contains(h.forbidden, name) {
			k &^= kObject
		}
	}
	return k == 0
}

func uniqueNames(names []string) []string {
	names = slices.Clone(names)
	slices.Sort(names)
	return slices.Compact(names)
}

// maker makes one payload.
type maker struct {
	g       *Generator
	r       *rng.Source
	seed, n uint64
	shared  map[string]any // by their names
	grow    *growth
	under   string // the name of the member that is being made
	// tries that are left for the whole payload
	effort  int
	room    int      // bytes that are left for the whole payload
	refused *Refused // why the schema cannot be honoured, once that is known
	made    int      // values so far
	edges   bool
	// for edges: whether a length is a list's, and whether there is a long list
	listing, wide bool
}

// order returns the numbers below n in random order.
func (m *maker) order(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	for i := n - 1; i > 0; i-- {
		j := m.r.Below(i + 1)
		out[i], out[j] = out[j], out[i]
	}
	return out
}
