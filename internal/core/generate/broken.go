package generate

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/rng"
)

// Broken is a payload that violates one keyword.
type Broken struct {
	Payload []byte
	At      string // a JSON Pointer to the place in the payload
	Keyword string // such as minLength
	Schema  string // a JSON Pointer to the keyword in the schema
}

// spot is a keyword that holds at a place of a payload.
type spot struct {
	path    []any // names and numbers
	s       *schema
	keyword string
	value   any
	below   string // of keywords that hold subschemas, the one that takes nothing, such as /bar
}

// Break returns payload n of a seed with one keyword violated, and no other: without
// that keyword the schema takes it. ok is false when nothing in the schema can be
// violated by itself.
func (g *Generator) Break(seed, n uint64) (b Broken, ok bool) {
	for attempt := range uint64(20) {
		if g.stopped() != nil {
			return b, false
		}
		v, err := g.draft(seed, n, attempt, false)
		if err != nil || g.whole.Validate(simple(v)) != nil {
			continue
		}
		m := &maker{g: g, r: rng.New(seed, n<<8|attempt<<1|1), effort: effort,
			room: mostMade}
		c := &collector{g: g}
		c.collect(g.root, nil, v, 0)
		looks := max(mostLooked/len(write(nil, v)), 20)
		for _, s := range m.varied(c.spots) {
			for range 3 {
				other, ok := m.violate(s)
				if looks--; !ok || looks < 0 || g.stopped() != nil {
					continue
				}
				made := replace(v, s.path, other)
				if g.breaksOnly(made, s) {
					return Broken{write(nil, made), pointer(s.path), s.keyword, s.s.place + "/" + s.keyword + s.below},
						true
				}
			}
		}
	}
	return b, false
}

// varied returns the spots in random order, each keyword once before any comes again.
func (m *maker) varied(spots []spot) (out []*spot) {
	of := map[string][]*spot{}
	var keywords []string
	for _, i := range m.order(len(spots)) {
		s := &spots[i]
		if of[s.keyword] == nil {
			keywords = append(keywords, s.keyword)
		}
		of[s.keyword] = append(of[s.keyword], s)
	}
	shuffled := m.order(len(keywords))
	for round := 0; len(out) < len(spots); round++ {
		for _, i := range shuffled {
			if list := of[keywords[i]]; round < len(list) {
				out = append(out, list[round])
			}
		}
	}
	return out
}

// breaksOnly reports whether the schema refuses a value, and the schema without
// the keyword takes it.
func (g *Generator) breaksOnly(v any, s *spot) bool {
	plain := simple(v)
	if g.whole.Validate(plain) == nil {
		return false
	}
	at := s.s.at + "/" + s.keyword + s.below
	lenient, known := g.lenient[at]
	if !known {
		c := Compiler(loading{g.load})
		names, _ := jsondiff.Parse(s.s.place + "/" + s.keyword + s.below) // it was written here
		var err error
		for _, doc := range g.docs {
			content := doc.content
			if doc == s.s.doc {
				content = lacking(content, names, s.below != "")
			}
			if !strings.Contains(doc.uri, "://json-schema.org/") {
				err = errors.Join(err, c.AddResource(doc.uri, content))
			}
		}
		if err == nil {
			lenient, _ = c.Compile(g.docs[0].uri) // what does not compile breaks nothing by itself
		}
		g.lenient[at] = lenient
	}
	return lenient != nil && lenient.Validate(plain) == nil
}

// lacking returns a document without the member at a pointer's path; a subschema that takes
// nothing takes all instead.
func lacking(doc any, path []string, subschema bool) any {
	name := path[0]
	switch v := doc.(type) {
	case map[string]any:
		c := maps.Clone(v)
		switch {
		case len(path) > 1:
			c[name] = lacking(v[name], path[1:], subschema)
		case subschema:
			c[name] = true
		default:
			delete(c, name)
		}
		return c
	case []any:
		c := slices.Clone(v)
		if i, err := strconv.Atoi(name); err == nil && i < len(c) {
			if c[i] = true; len(path) > 1 {
				c[i] = lacking(v[i], path[1:], subschema)
			}
		}
		return c
	}
	return doc
}

// collect finds the keywords that hold at each place of a value, as far as no
// choice stands before them.
func (c *collector) collect(s *schema, path []any, v any, refs int) {
	if s == nil || s.always != nil || refs > mostRefs || len(c.spots) > mostSpots {
		return
	}
	add := func(keyword string, holds bool) {
		if holds {
			c.spots = append(c.spots, spot{path: slices.Clone(path), s: s, keyword: keyword, value: v})
		}
	}
	add("type", s.types != nil)
	add("enum", s.enum != nil)
	add("const", s.hasConst)
	add("anyOf", len(s.anyOf) > 0)
	add("oneOf", len(s.oneOf) > 0)
	add("not", s.not != nil)
	c.forbidden(s, path, v)
	switch v := v.(type) {
	case json.Number:
		add("minimum", s.minimum != nil)
		add("maximum", s.maximum != nil)
		add("exclusiveMinimum", s.above != nil)
		add("exclusiveMaximum", s.below != nil)
		add("multipleOf", s.multipleOf != nil)
	case string:
		add("minLength", s.minLength > 0)
		add("maxLength", s.maxLength != none)
		add("pattern", s.pattern != "")
		add("format", formats[s.format] != nil)
	case []any:
		add("minItems", s.minItems > 0)
		add("maxItems", s.maxItems != none)
		add("uniqueItems", s.unique && len(v) > 0)
		add("contains", s.contains != nil && s.minContains > 0 && s.maxContains == none)
		add("minContains", s.contains != nil && s.minContains > 1)
		add("maxContains", s.contains != nil && s.maxContains != none)
		add(s.restOfItems(), s.items != nil && s.items.never())
		add("unevaluatedItems", s.unevaluatedItems != nil && s.unevaluatedItems.never())
		for i, x := range v {
			below := append(slices.Clone(path), i)
			switch {
			case i < len(s.prefixItems):
				c.collect(s.prefixItems[i], below, x, 0)
			case s.items != nil:
				c.collect(s.items, below, x, 0)
			}
		}
	case *object:
		add("required", len(s.required) > 0)
		add("minProperties", s.minProps > 0)
		add("maxProperties", s.maxProps != none)
		add("additionalProperties", s.additional != nil && s.additional.never())
		add("unevaluatedProperties", s.unevaluated != nil && s.unevaluated.never())
		add("propertyNames", s.names != nil)
		for i, name := range v.names {
			for _, x := range c.g.membersOf(s, name) {
				c.collect(x, append(slices.Clone(path), name), v.values[i], 0)
			}
			c.collect(s.dependentSchema[name], path, v, refs+1)
		}
	}
	c.chosen(s, path, v, refs)
	for _, to := range s.refs() {
		c.collect(to, path, v, refs+1)
	}
	for _, x := range s.allOf {
		c.collect(x, path, v, refs+1)
	}
}

// forbidden finds what a value of whatever type can be given that nothing fits: a member or an
// item that is false, a member that requires others, a list where none can hold what it must.
func (c *collector) forbidden(s *schema, path []any, v any) {
	add := func(keyword, below string) {
		c.spots = append(c.spots, spot{slices.Clone(path), s, keyword, v, below})
	}
	if may := s.types == nil || slices.Contains(s.types, "object"); may {
		for _, name := range s.propNames {
			if s.properties[name].never() {
				add("properties", "/"+jsondiff.Escape(name))
			}
		}
		for _, p := range s.propOrder {
			if s.patternProps[p].never() {
				add("patternProperties", "/"+jsondiff.Escape(p))
			}
		}
		if s.dependent != nil {
			add("dependentRequired", "")
		}
	}
	if may := s.types == nil || slices.Contains(s.types, "array"); may {
		for i, x := range s.prefixItems {
			if x.never() && s.doc.dialect >= 2020 {
				add("prefixItems", fmt.Sprint("/", i))
			}
		}
		if _, is := v.([]any); !is && s.contains != nil && s.contains.never() && s.minContains > 0 {
			add("contains", "")
		}
	}
}

// collector finds what can be violated in a payload.
type collector struct {
	g     *Generator
	spots []spot
	looks int // into branches
}

const (
	// mostSpots bounds the keywords that are looked for in one payload, and
	// mostLooks the branches that are looked into for them.
	mostSpots, mostLooks = 2000, 500
	// mostLooked bounds the bytes that are validated for one broken payload.
	mostLooked = 200_000
)

// collectChosen goes on in those branches of choices that the value fits.
func (c *collector) chosen(s *schema, path []any, v any, refs int) {
	plain := any(nil)
	fits := func(x *schema) bool {
		if c.looks++; c.looks > mostLooks {
			return false
		}
		if plain == nil {
			plain = simple(v)
		}
		return c.g.fits(x, plain)
	}
	for _, choice := range [][]*schema{s.anyOf, s.oneOf} {
		for _, x := range choice {
			if fits(x) {
				c.collect(x, path, v, refs+1)
			}
		}
	}
	if s.when != nil && (s.then != nil || s.otherwise != nil) {
		if fits(s.when) {
			c.collect(s.then, path, v, refs+1)
		} else {
			c.collect(s.otherwise, path, v, refs+1)
		}
	}
}

// membersOf returns the schemas that a schema by itself has for a member.
func (g *Generator) membersOf(s *schema, name string) (list []*schema) {
	if x := s.properties[name]; x != nil {
		list = append(list, x)
	}
	for _, p := range s.propOrder {
		if matches(p, name) {
			list = append(list, s.patternProps[p])
		}
	}
	if len(list) == 0 && s.additional != nil {
		list = append(list, s.additional)
	}
	return list
}

// never reports whether a schema takes nothing.
func (s *schema) never() bool { return s.always != nil && !*s.always }

// restOfItems is the name of the keyword for items beyond the first ones.
func (s *schema) restOfItems() string {
	if s.doc.dialect < 2020 && len(s.prefixItems) > 0 {
		return "additionalItems"
	}
	return "items"
}

// violate makes a value that a keyword refuses, as near to the one that is there
// as it can be.
func (m *maker) violate(s *spot) (any, bool) {
	switch s.keyword {
	case "type":
		return others[m.r.Below(len(others))], true
	case "enum", "const":
		switch v := s.value.(type) {
		case string:
			return v + "x", true
		case json.Number:
			return number(new(big.Rat).Add(rat(v), big.NewRat(1, 1))), true
		case bool:
			return !v, true
		}
		return "text", true
	case "minimum", "exclusiveMaximum", "maximum", "exclusiveMinimum", "multipleOf":
		return m.violateNumber(s), true
	case "minLength", "maxLength", "pattern", "format":
		return m.violateText(s)
	case "prefixItems":
		return m.violatePlace(s)
	case "minItems", "maxItems", "uniqueItems", "contains", "minContains", "maxContains", "items", "additionalItems",
		"unevaluatedItems":
		return m.violateItems(s)
	case "not":
		v, err := m.value([]*schema{s.s.not}, deep-1)
		return v, err == nil
	case "oneOf":
		if m.r.Chance(1, 2) { // two at once
			i := m.r.Below(len(s.s.oneOf))
			j := (i + 1 + m.r.Below(max(len(s.s.oneOf)-1, 1))) % len(s.s.oneOf)
			if v, err := m.value([]*schema{s.s.oneOf[i], s.s.oneOf[j]}, deep-1); err == nil {
				return v, true
			}
		}
		return m.unlike(s), true
	case "anyOf":
		return m.unlike(s), true
	}
	return m.violateMembers(s)
}

// others are values of each type.
var others = []any{nil, true, json.Number("0"), "text", []any{}, &object{}, json.Number("0.5")}

// unlike makes a value that is hardly one of several: of another type, or
// without a member.
func (m *maker) unlike(s *spot) any {
	if o, ok := s.value.(*object); ok && len(o.names) > 0 && m.r.Chance(1, 2) {
		i := m.r.Below(len(o.names))
		return &object{slices.Delete(slices.Clone(o.names), i, i+1), slices.Delete(slices.Clone(o.values), i, i+1)}
	}
	return others[m.r.Below(len(others))]
}

func (m *maker) violateNumber(s *spot) any {
	step := big.NewRat(1, 1) // of an integer; of others, a little less
	if !slices.Contains(s.s.types, "integer") && m.r.Chance(1, 2) {
		step = big.NewRat(1, 100)
	}
	switch s.keyword {
	case "minimum":
		return number(new(big.Rat).Sub(s.s.minimum, step))
	case "maximum":
		return number(new(big.Rat).Add(s.s.maximum, step))
	case "exclusiveMinimum":
		return number(s.s.above)
	case "exclusiveMaximum":
		return number(s.s.below)
	}
	half := new(big.Rat).Mul(s.s.multipleOf, big.NewRat(1, 2))
	if half.IsInt() || !slices.Contains(s.s.types, "integer") {
		return number(new(big.Rat).Add(rat(s.value), half))
	}
	return number(new(big.Rat).Add(rat(s.value), big.NewRat(1, 1)))
}

func (m *maker) violateText(s *spot) (any, bool) {
	v := []rune(s.value.(string))
	switch s.keyword {
	case "minLength":
		if len(v) < s.s.minLength {
			return nil, false
		}
		return string(v[:s.s.minLength-1]), true
	case "maxLength":
		if s.s.maxLength > 1<<20 {
			return nil, false
		}
		last := 'x'
		if len(v) > 0 {
			last = v[len(v)-1]
		}
		for len(v) <= s.s.maxLength {
			v = append(v, last)
		}
		return string(v), true
	case "pattern":
		for range textTries {
			w := slices.Clone(v)
			if len(w) == 0 {
				w = []rune{'x'}
			}
			w[m.r.Below(len(w))] = []rune{'#', ' ', 'Z', '0', 'é'}[m.r.Below(5)]
			if !matches(s.s.pattern, string(w)) {
				return string(w), true
			}
		}
		for _, w := range []string{"", "#", strings.Repeat("#", utf8.RuneCountInString(string(v)))} {
			if !matches(s.s.pattern, w) {
				return w, true
			}
		}
		return nil, false
	}
	return "not a " + s.s.format, true
}

// there returns the items that others must differ from; nil where they need not.
func (s *spot) there(items []any) map[string]bool {
	if !s.s.unique {
		return nil
	}
	there := map[string]bool{}
	for _, x := range items {
		there[identity(x)] = true
	}
	return there
}

// violatePlace makes a list that reaches to the item that is false.
func (m *maker) violatePlace(s *spot) (any, bool) {
	at, _ := strconv.Atoi(strings.TrimPrefix(s.below, "/"))
	out, _ := s.value.([]any)
	out = slices.Clone(out[:min(at, len(out))])
	there := s.there(out)
	for len(out) <= at {
		x, list := others[m.r.Below(len(others))], []*schema{}
		if len(out) < at {
			list = append(list, s.s.prefixItems[len(out)])
		}
		if len(list) > 0 {
			var err error
			if x, err = m.item(list, there, deep); err != nil {
				return nil, false
			}
		}
		out = append(out, x)
	}
	return out, true
}

func (m *maker) violateItems(s *spot) (any, bool) {
	v, is := s.value.([]any)
	if !is { // an empty list contains nothing
		return []any{}, true
	}
	switch s.keyword {
	case "minItems":
		if len(v) < s.s.minItems {
			return nil, false
		}
		return slices.Clone(v[:s.s.minItems-1]), true
	case "uniqueItems":
		return append(slices.Clone(v), v[m.r.Below(len(v))]), true
	case "items", "additionalItems", "unevaluatedItems":
		return append(slices.Clone(v), others[m.r.Below(len(others))]), true
	case "contains", "minContains":
		least := s.s.minContains
		return slices.DeleteFunc(slices.Clone(v), func(x any) bool {
			if m.g.fits(s.s.contains, simple(x)) {
				least--
			}
			return least <= 0 && m.g.fits(s.s.contains, simple(x))
		}), true
	case "maxContains":
		list := []*schema{s.s.contains}
		if s.s.items != nil {
			list = append(list, s.s.items)
		}
		out, there := slices.Clone(v), s.there(v)
		for range min(s.s.maxContains+1, wide) {
			x, err := m.item(list, there, deep)
			if err != nil {
				return nil, false
			}
			out = append(out, x)
		}
		return out, true
	}
	out, there := slices.Clone(v), s.there(v)
	for len(out) <= s.s.maxItems && s.s.maxItems < 1000 {
		list := []*schema{}
		switch {
		case len(out) < len(s.s.prefixItems):
			list = append(list, s.s.prefixItems[len(out)])
		case s.s.items != nil:
			list = append(list, s.s.items)
		}
		x, err := m.item(list, there, deep)
		if err != nil {
			return nil, false
		}
		out = append(out, x)
	}
	return out, true
}

func (m *maker) violateMembers(s *spot) (any, bool) {
	v, is := s.value.(*object)
	if !is {
		v = &object{}
	}
	without := func(name string) (any, bool) {
		i := slices.Index(v.names, name)
		if i < 0 {
			return nil, false
		}
		return &object{slices.Delete(slices.Clone(v.names), i, i+1), slices.Delete(slices.Clone(v.values), i, i+1)},
			true
	}
	with := func(name string, x any) *object {
		i, _ := slices.BinarySearch(v.names, name)
		return &object{slices.Insert(slices.Clone(v.names), i, name), slices.Insert(slices.Clone(v.values), i, x)}
	}
	switch s.keyword {
	case "required":
		return without(s.s.required[m.r.Below(len(s.s.required))])
	case "minProperties":
		if len(v.names) < s.s.minProps || len(v.names) == 0 {
			return nil, false
		}
		keep := s.s.minProps - 1
		return &object{slices.Clone(v.names[:keep]), slices.Clone(v.values[:keep])}, true
	case "dependentRequired":
		for _, name := range sorted(s.s.dependent) {
			if slices.Contains(v.names, name) && len(s.s.dependent[name]) > 0 {
				return without(s.s.dependent[name][m.r.Below(len(s.s.dependent[name]))])
			}
		}
		for _, name := range sorted(s.s.dependent) { // what requires others is not there yet
			lacks := func(need string) bool { return need != name && !slices.Contains(v.names, need) }
			if !slices.Contains(v.names, name) && slices.ContainsFunc(s.s.dependent[name], lacks) {
				x, err := m.value(m.g.membersOf(s.s, name), deep)
				return with(name, x), err == nil
			}
		}
		return nil, false
	case "properties", "patternProperties":
		names, _ := jsondiff.Parse(s.below) // it was written here
		name := names[0]
		if s.keyword == "patternProperties" {
			var ok bool
			if name, ok = m.pattern(name, 0, none); !ok {
				return nil, false
			}
		}
		if slices.Contains(v.names, name) {
			return nil, false
		}
		return with(name, others[m.r.Below(len(others))]), true
	case "propertyNames":
		for range textTries {
			name := m.word() + []string{"#", " ", "", strings.Repeat("x", 80)}[m.r.Below(4)]
			if !slices.Contains(v.names, name) && !m.g.fits(s.s.names, name) {
				list := m.g.membersOf(s.s, name)
				x, err := m.value(list, deep)
				return with(name, x), err == nil
			}
		}
		return nil, false
	}
	// one more than there may be
	o := v
	for n := 0; n == 0 || s.keyword == "maxProperties" && len(o.names) <= s.s.maxProps && n < 1000; n++ {
		name := m.word() + "-" + m.digits(2)
		if slices.Contains(o.names, name) {
			continue
		}
		x := any("text")
		if list := m.memberOf(&shape{objects: []*schema{s.s}}, name); s.keyword == "maxProperties" && len(list) > 0 {
			var err error
			if x, err = m.value(list, deep); err != nil {
				return nil, false
			}
		}
		v = o
		o = with(name, x)
	}
	return o, true
}

// replace returns a value with another one at a place; the value stays as it is.
func replace(v any, path []any, with any) any {
	if len(path) == 0 {
		return with
	}
	switch v := v.(type) {
	case *object:
		i := slices.Index(v.names, path[0].(string))
		c := &object{v.names, slices.Clone(v.values)}
		c.values[i] = replace(v.values[i], path[1:], with)
		return c
	case []any:
		c := slices.Clone(v)
		c[path[0].(int)] = replace(v[path[0].(int)], path[1:], with)
		return c
	}
	return v
}

func pointer(path []any) string {
	names := make([]string, len(path))
	for i, p := range path {
		names[i] = fmt.Sprint(p)
	}
	return jsondiff.Pointer(names)
}
