// Package infer learns a JSON Schema from payloads: types, required members, formats, enums and
// bounds, with how often each was seen, so that a generator can produce more of the same kind. Add
// takes one payload after the other; Schema returns what was learned.
package infer

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/text"
)

const (
	// mostDistinct bounds the values that are counted at one place; a place with more is not an
	// enum.
	mostDistinct = 24
	// perValue is the least average number of occurrences of an enum's values.
	perValue = 4
	// mostNumbers bounds the numbers of a place of which the distribution is shown.
	mostNumbers = 2000
	// mostMembers is the number of names above which an object is taken for a map.
	mostMembers = 60
)

// formats are the formats that are looked for in strings, the most specific first.
var formats = []string{"uuid", "date-time", "date", "time", "email", "ipv4", "ipv6", "uri"}

// Learner learns from payloads.
type Learner struct{ root place }

// place is what was seen at one place of the payloads.
type place struct {
	n     int
	types map[string]int

	least, most       *big.Rat
	unbounded         bool      // some numbers are too large to be computed with
	numbers           []float64 // the first of them
	shortest, longest int
	values            map[string]int // strings and booleans as JSON; nil for too many
	formats           []string       // those that all strings have
	fewest, largest   int            // items
	items             *place
	members           map[string]*place
}

// Add learns from one payload, which must be JSON.
func (l *Learner) Add(data []byte) error {
	v, err := jsondiff.Decode(data)
	if err != nil {
		return err
	}
	l.root.add(v)
	return nil
}

// AddRequest learns from an HTTP request: its method, path, parameters, headers and, where it is
// JSON, its body. Secret values are left out.
func (l *Learner) AddRequest(r *event.Request) { l.root.add(requestDoc(r)) }

// requestDoc returns a request as a document, without secret values.
func requestDoc(r *event.Request) map[string]any {
	v := map[string]any{"method": r.Method}
	path, query, _ := strings.Cut(payload.ShownTarget(r.Target), "?")
	v["path"] = path
	if values, err := url.ParseQuery(query); err == nil && len(values) > 0 {
		m := map[string]any{}
		for name := range values {
			m[name] = values.Get(name)
		}
		v["query"] = m
	}
	headers := map[string]any{}
	for _, h := range r.Header {
		headers[strings.ToLower(h.Name)] = h.Value
		if payload.SecretHeader(h.Name) {
			headers[strings.ToLower(h.Name)] = payload.Hidden
		}
	}
	if len(headers) > 0 {
		v["headers"] = headers
	}
	if body, err := jsondiff.Decode(r.Body); err == nil {
		v["body"] = body
	}
	return v
}

// N returns the number of payloads so far.
func (l *Learner) N() int { return l.root.n }

func (p *place) add(v any) {
	if p.n == 0 {
		p.types, p.values = map[string]int{}, map[string]int{}
	}
	p.n++
	switch v := v.(type) {
	case nil:
		p.types["null"]++
	case bool:
		p.types["boolean"]++
		p.value(v)
	case json.Number:
		p.number(v)
	case string:
		p.text(v)
	case []any:
		p.list(v)
	case map[string]any:
		p.object(v)
	}
}

func (p *place) value(v any) {
	if p.values == nil {
		return
	}
	text, _ := json.Marshal(v) // a string or a boolean
	p.values[string(text)]++
	if len(p.values) > mostDistinct {
		p.values = nil
	}
}

func (p *place) number(v json.Number) {
	r, ok := text.Rational(string(v))
	if !ok {
		p.types["number"]++
		p.unbounded = true
		return
	}
	if r.IsInt() {
		p.types["integer"]++
	} else {
		p.types["number"]++
	}
	if v, _ := r.Float64(); len(p.numbers) < mostNumbers {
		p.numbers = append(p.numbers, v)
	}
	if p.least == nil || r.Cmp(p.least) < 0 {
		p.least = r
	}
	if p.most == nil || r.Cmp(p.most) > 0 {
		p.most = r
	}
}

func (p *place) text(v string) {
	n := utf8.RuneCountInString(v)
	if p.types["string"] == 0 {
		p.shortest, p.longest, p.formats = n, n, formats
	}
	p.types["string"]++
	p.shortest, p.longest = min(p.shortest, n), max(p.longest, n)
	p.value(v)
	if len(p.formats) > 0 {
		p.formats = slices.DeleteFunc(slices.Clone(p.formats), func(f string) bool { return !generate.HasFormat(f, v) })
	}
}

func (p *place) list(v []any) {
	if p.types["array"] == 0 {
		p.fewest, p.largest, p.items = len(v), len(v), &place{}
	}
	p.types["array"]++
	p.fewest, p.largest = min(p.fewest, len(v)), max(p.largest, len(v))
	for _, x := range v {
		p.items.add(x)
	}
}

func (p *place) object(v map[string]any) {
	p.types["object"]++
	if p.members == nil {
		p.members = map[string]*place{}
	}
	for name, x := range v {
		if p.members[name] == nil {
			p.members[name] = &place{}
		}
		p.members[name].add(x)
	}
}

// schema is what is written, in this order.
type schema struct {
	Dialect    string             `json:"$schema,omitempty"`
	Comment    string             `json:"$comment,omitempty"`
	Type       any                `json:"type,omitempty"`
	Enum       []json.RawMessage  `json:"enum,omitempty"`
	Format     string             `json:"format,omitempty"`
	Minimum    json.Number        `json:"minimum,omitempty"`
	Maximum    json.Number        `json:"maximum,omitempty"`
	MinLength  *int               `json:"minLength,omitempty"`
	MaxLength  *int               `json:"maxLength,omitempty"`
	MinItems   *int               `json:"minItems,omitempty"`
	MaxItems   *int               `json:"maxItems,omitempty"`
	Items      *schema            `json:"items,omitempty"`
	Properties map[string]*schema `json:"properties,omitempty"`
	Required   []string           `json:"required,omitempty"`
	Additional any                `json:"additionalProperties,omitempty"`
	Made       map[string]any     `json:"x-made,omitempty"`
	Seen       int                `json:"x-seen,omitempty"`
}

// Schema returns what was learned as a JSON Schema (2020-12). The keyword x-seen holds how often a
// place was present, x-made how often each value occurred.
func (l *Learner) Schema() []byte {
	s := l.root.schema(l.root.n)
	s.Dialect = "https://json-schema.org/draft/2020-12/schema"
	s.Comment = fmt.Sprintf("learned from %d payloads; members that none of them had are not allowed, so loosen what "+
		"is too strict", l.root.n)
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	_ = e.Encode(s) // all of it came from JSON
	return b.Bytes()
}

// schema describes a place; of is how often it could have been present.
func (p *place) schema(of int) *schema {
	s := &schema{Made: map[string]any{}, Seen: p.n}
	if p.n == 0 {
		s.Made = nil
		return s
	}
	kinds := maps.Clone(p.types)
	if kinds["number"] > 0 && kinds["integer"] > 0 { // an integer is a number too
		kinds["number"] += kinds["integer"]
		delete(kinds, "integer")
	}
	names := slices.Sorted(maps.Keys(kinds))
	if s.Type = any(names); len(names) == 1 {
		s.Type = names[0]
	}
	if p.n < of {
		s.Made["present"] = share(p.n, of)
	}
	p.enum(s, names)
	if s.Enum == nil {
		if len(names) > 1 {
			s.Made["types"] = kinds
		}
		p.bounds(s)
	}
	if len(s.Made) == 0 {
		s.Made = nil
	}
	return s
}

// share formats a share as a decimal.
func share(n, of int) json.Number {
	return json.Number(strings.TrimRight(strings.TrimRight(big.NewRat(int64(n), int64(of)).FloatString(6), "0"), "."))
}

// enum makes strings and booleans an enum where few values come often.
func (p *place) enum(s *schema, names []string) {
	counted := p.types["string"] + p.types["boolean"]
	if p.values == nil || counted == 0 || counted+p.types["null"] < p.n || len(p.values)*perValue > counted {
		return
	}
	var weights []int
	for _, text := range slices.Sorted(maps.Keys(p.values)) {
		s.Enum = append(s.Enum, json.RawMessage(text))
		weights = append(weights, p.values[text])
	}
	if n := p.types["null"]; n > 0 {
		s.Enum = append(s.Enum, json.RawMessage("null"))
		weights = append(weights, n)
	}
	s.Made["weights"] = weights
}

func (p *place) bounds(s *schema) {
	if p.least != nil && !p.unbounded {
		s.Minimum, s.Maximum = decimal(p.least), decimal(p.most)
	}
	if p.types["string"] > 0 {
		if len(p.formats) > 0 && p.longest > 0 {
			s.Format = p.formats[0]
		} else {
			s.MinLength, s.MaxLength = &p.shortest, &p.longest
		}
	}
	if p.types["array"] > 0 {
		s.MinItems, s.MaxItems = &p.fewest, &p.largest
		s.Items = p.items.schema(p.items.n)
	}
	objects := p.types["object"]
	if objects == 0 {
		return
	}
	if len(p.members) > mostMembers { // names that rarely repeat are keys of a map
		all := &place{}
		rare := 0
		for _, m := range p.members {
			if m.n*20 < objects || objects == 1 {
				rare++
			}
		}
		if rare*2 > len(p.members) {
			for _, name := range slices.Sorted(maps.Keys(p.members)) {
				all.merge(p.members[name])
			}
			s.Additional = all.schema(all.n)
			return
		}
	}
	s.Properties, s.Additional = map[string]*schema{}, false
	for _, name := range slices.Sorted(maps.Keys(p.members)) {
		m := p.members[name]
		s.Properties[name] = m.schema(objects)
		if m.n == objects {
			s.Required = append(s.Required, name)
		}
	}
}

func decimal(r *big.Rat) json.Number {
	places, exact := r.FloatPrec()
	if !exact {
		places = 20
	}
	return json.Number(r.FloatString(places))
}

// merge adds what was seen at another place.
func (p *place) merge(o *place) {
	if p.n == 0 {
		p.types, p.values = map[string]int{}, map[string]int{}
	}
	if o.types["string"] > 0 {
		if p.types["string"] == 0 {
			p.shortest, p.longest, p.formats = o.shortest, o.longest, o.formats
		}
		p.shortest, p.longest = min(p.shortest, o.shortest), max(p.longest, o.longest)
		p.formats = slices.DeleteFunc(slices.Clone(p.formats), func(f string) bool {
			return !slices.Contains(o.formats,
				f)
		})
	}
	if o.types["array"] > 0 {
		if p.types["array"] == 0 {
			p.fewest, p.largest, p.items = o.fewest, o.largest, &place{}
		}
		p.fewest, p.largest = min(p.fewest, o.fewest), max(p.largest, o.largest)
		p.items.merge(o.items)
	}
	p.n += o.n
	for t, n := range o.types {
		p.types[t] += n
	}
	p.values = nil
	p.unbounded = p.unbounded || o.unbounded
	if o.least != nil && (p.least == nil || o.least.Cmp(p.least) < 0) {
		p.least = o.least
	}
	if o.most != nil && (p.most == nil || o.most.Cmp(p.most) > 0) {
		p.most = o.most
	}
	for name, m := range o.members {
		if p.members == nil {
			p.members = map[string]*place{}
		}
		if p.members[name] == nil {
			p.members[name] = &place{}
		}
		p.members[name].merge(m)
	}
}
