// Package generate makes payloads from a JSON Schema (2020-12): the same seed
// and number give the same bytes on every machine, and payload n is made without
// those before it.
//
// New reads a schema and refuses what it cannot honour, by name and place. Make
// gives one payload. A schema is first flattened for one place of the payload
// (shape.go): all that holds there at once, with one branch chosen of each
// choice; a value is then made to fit (value.go, text.go), and what only a look
// at the whole can tell (not, oneOf, contains) is looked at by a validator, with
// another try where it fails.
package generate

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/text"
)

// Refused is a schema that cannot be honoured.
type Refused struct {
	At   string // a JSON Pointer into the schema
	Text string
}

func (r *Refused) Error() string {
	at := r.At
	if at == "" {
		at = "/"
	}
	return fmt.Sprintf("%s: %s", at, r.Text)
}

// schema is one subschema, its keywords read.
type schema struct {
	doc    *document
	at     string // absolute URI with the pointer, as the validator knows it
	place  string // the pointer alone, for people
	always *bool  // a boolean schema

	ref, dynamicRef string
	refTo, dynTo    *schema
	base            string // URI that references are relative to
	recursive       bool   // ref is a $recursiveRef

	types     []string
	enum      []any
	hasConst  bool
	constant  any
	allOf     []*schema
	anyOf     []*schema
	oneOf     []*schema
	not       *schema
	when      *schema // if
	then      *schema
	otherwise *schema

	minimum, maximum   *big.Rat
	above, below       *big.Rat // exclusive
	multipleOf         *big.Rat
	minLength          int
	maxLength          int // -1 for none
	pattern            string
	onlyPattern        bool // besides a type, nothing else is asked
	format             string
	prefixItems        []*schema
	items              *schema
	contains           *schema
	minContains        int
	maxContains        int
	minItems, maxItems int
	unique             bool
	unevaluatedItems   *schema

	properties      map[string]*schema
	patternProps    map[string]*schema
	additional      *schema
	names           *schema
	required        []string
	minProps        int
	maxProps        int
	dependent       map[string][]string
	dependentSchema map[string]*schema
	unevaluated     *schema

	made      *annotation
	cost      int // levels of nesting that a value needs at least; endless for none that ends
	validator *jsonschema.Schema
	flat      *shape   // where no choice is to be made: its shape, once it is known
	propNames []string // of properties, sorted
	propOrder []string // of patternProps, sorted
}

const (
	none    = -1
	endless = 1 << 20
)

// dialects are those that are read, by their years; what older ones write
// otherwise is taken for what it is called today.
var dialects = map[string]int{
	"https://json-schema.org/draft/2020-12/schema": 2020, "https://json-schema.org/draft/2019-09/schema": 2019,
	"http://json-schema.org/draft-07/schema": 7, "http://json-schema.org/draft-06/schema": 6,
	"http://json-schema.org/draft-04/schema": 4,
}

// document is one file of a schema: the schema itself, or one that it refers to.
type document struct {
	uri     string
	content any // as it was read
	dialect int
	places  map[string]*schema // by their pointers
}

// Generator makes payloads from one schema.
type Generator struct {
	root     *schema
	load     Load
	docs     []*document
	lenient  map[string]*jsonschema.Schema // without the keyword at a place
	start    []*schema                     // the root alone
	programs map[string]*automaton
	meetings map[string]*together
	size     int
	extras   bool         // members that the schema leaves open are made, too
	stop     func() error // asked whether to go on; nil for no one
	byName   map[string]func(*maker) string
	numbers  map[string][2]int
	sharing  map[string][]*schema // by the name under which they share a value
	all      []*schema
	byURI    map[string]*schema
	anchors  map[string]*schema // URI#anchor
	dynamic  map[string]*schema // name of a dynamic anchor: the outermost that has it
	compiler *jsonschema.Compiler
	whole    *jsonschema.Schema
}

const home = "https://nightdrill.invalid/schema.json" // a schema of no file is here; it is never fetched

// Load returns what is at a URI that a schema refers to, decoded as
// jsonschema.UnmarshalJSON does. The schemas of the standard itself are not asked for.
type Load func(uri string) (any, error)

// New reads a schema that stands by itself. The error is Refused where the
// schema is the reason.
func New(text []byte) (*Generator, error) {
	return Open(text, home, func(uri string) (any, error) {
		return nil, fmt.Errorf("%s is not part of the schema; nothing is fetched", uri)
	})
}

// Open is New for a schema that may refer to others; base is its own URI, such
// as a file's.
func Open(text []byte, base string, load Load) (*Generator, error) {
	plain, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return nil, &Refused{"", "not valid JSON: " + err.Error()}
	}
	g := &Generator{load: load, lenient: map[string]*jsonschema.Schema{}, byURI: map[string]*schema{},
		anchors: map[string]*schema{}, dynamic: map[string]*schema{}, programs: map[string]*automaton{},
		meetings: map[string]*together{}, sharing: map[string][]*schema{},
		byName: map[string]func(*maker) string{}, numbers: map[string][2]int{}}
	if n := parts(plain); n > mostParts {
		return nil, &Refused{"", fmt.Sprintf("it has %d subschemas; the limit is %d", n, mostParts)}
	}
	if place, n := tooLarge(plain, ""); n != "" {
		return nil, &Refused{place, fmt.Sprintf("%s is too large: exponents are up to %d", n, mostExponent)}
	}
	doc, err := newDocument(plain, base)
	if err != nil {
		return nil, err
	}
	g.compiler = Compiler(loading{load})
	if err := g.compiler.AddResource(base, plain); err != nil {
		return nil, &Refused{"", err.Error()}
	}
	if g.whole, err = g.compiler.Compile(base); err != nil {
		return nil, invalid(err, base)
	}
	if g.root, err = g.document(doc); err != nil {
		return nil, err
	}
	g.start = []*schema{g.root}
	for i := 0; i < len(g.all); i++ { // what is referred to may be read only now, and refer to more
		s := g.all[i]
		if s.refTo, err = g.target(s, s.ref, false); err == nil {
			s.dynTo, err = g.target(s, s.dynamicRef, true)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := g.weigh(); err != nil {
		return nil, err
	}
	g.costs()
	if g.root.cost >= endless {
		return nil, g.without()
	}
	return g, nil
}

// invalid returns where a schema is invalid, and why.
func invalid(err error, base string) *Refused {
	var s *jsonschema.SchemaValidationError
	var v *jsonschema.ValidationError
	if !errors.As(err, &s) || !errors.As(s.Err, &v) {
		return &Refused{"", strings.Join(strings.Fields(strings.ReplaceAll(err.Error(), base, "the schema")), " ")}
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	return &Refused{jsondiff.Pointer(v.InstanceLocation), "not a valid schema: " + Why(v)}
}

// newDocument takes a document, and returns of which dialect it is.
func newDocument(plain any, uri string) (*document, error) {
	doc := &document{uri, plain, 2020, map[string]*schema{}}
	m, ok := plain.(map[string]any)
	if d, given := m["$schema"].(string); ok && given {
		name, year := dialect(d)
		if year == 0 {
			return nil, &Refused{"/$schema", fmt.Sprintf("%s is a different dialect; supported are 2020-12 and "+
				"earlier drafts from 4 on", d)}
		}
		m["$schema"], doc.dialect = name, year
	}
	return doc, nil
}

// dialect returns the name of a dialect as the standard writes it, and its year;
// 0 for one that is not known.
func dialect(uri string) (string, int) {
	_, rest, _ := strings.Cut(strings.TrimSuffix(uri, "#"), "://")
	if rest == "json-schema.org/schema" { // the latest
		rest = "json-schema.org/draft/2020-12/schema"
	}
	for _, scheme := range []string{"https://", "http://"} {
		if year := dialects[scheme+rest]; year != 0 {
			return scheme + rest, year
		}
	}
	return uri, 0
}

func year(uri string) int {
	_, y := dialect(uri)
	return y
}

// document reads a document.
func (g *Generator) document(doc *document) (*schema, error) {
	g.docs = append(g.docs, doc)
	return g.read(doc, doc.content, doc.uri, doc.uri+"#", "")
}

// read reads a subschema and those below it.
func (g *Generator) read(doc *document, v any, base, at, place string) (*schema, error) {
	if s := doc.places[place]; s != nil {
		return s, nil
	}
	s := &schema{doc: doc, at: at, place: place, base: base, maxLength: none, maxItems: none, maxProps: none,
		minContains: 1, maxContains: none, cost: endless}
	g.all = append(g.all, s)
	doc.places[place] = s
	if b, ok := v.(bool); ok {
		s.always = &b
		return s, nil
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, &Refused{place, "a schema must be an object, true or false"}
	}
	idKey := "$id"
	if doc.dialect == 4 {
		idKey = "id"
	}
	if id, ok := m[idKey].(string); ok && !(strings.HasPrefix(id, "#") && doc.dialect <= 7) {
		u, err := resolve(base, id)
		if err != nil {
			return nil, &Refused{place + "/$id", err.Error()}
		}
		s.base = u
		g.byURI[u] = s
	}
	// an anchor, as those drafts write it
	if id, ok := m[idKey].(string); ok && strings.HasPrefix(id, "#") && doc.dialect <= 7 {
		g.anchors[s.base+id] = s
	}
	if place == "" {
		g.byURI[base] = s
	}
	if d, ok := m["$schema"].(string); ok && year(d) != doc.dialect {
		return nil, &Refused{place + "/$schema", fmt.Sprintf("%s is a different dialect from the root's", d)}
	}
	if ref, ok := m["$ref"].(string); ok && doc.dialect < 2019 { // what stands beside it does not count (draft 7, §8.3)
		m = map[string]any{"$ref": ref, "definitions": m["definitions"], "$defs": m["$defs"]}
	}
	for _, key := range []string{"$anchor", "$dynamicAnchor"} {
		if name, ok := m[key].(string); ok {
			g.anchors[s.base+"#"+name] = s
			if key == "$dynamicAnchor" && g.dynamic[name] == nil {
				g.dynamic[name] = s // subschemas are read from the outside in
			}
		}
	}
	return s, g.keywords(s, m)
}

func (g *Generator) keywords(s *schema, m map[string]any) (err error) {
	s.ref, _ = m["$ref"].(string)
	s.dynamicRef, _ = m["$dynamicRef"].(string)
	switch t := m["type"].(type) {
	case string:
		s.types = []string{t}
	case []any:
		s.types = texts(t)
	}
	if e, ok := m["enum"].([]any); ok {
		s.enum = e
	}
	s.constant, s.hasConst = m["const"]
	s.pattern, _ = m["pattern"].(string)
	s.onlyPattern = len(m) == 1 || len(m) == 2 && m["type"] == "string"
	s.format, _ = m["format"].(string)
	s.unique, _ = m["uniqueItems"].(bool)
	if ref, ok := m["$recursiveRef"].(string); ok && s.ref == "" { // 2019-09: as if it were not dynamic
		s.ref, s.recursive = ref, true
	}
	if err := bounded(m, s.place); err != nil {
		return err
	}
	s.minimum, s.maximum, s.above, s.below, s.multipleOf = rat(m["minimum"]), rat(m["maximum"]),
		rat(m["exclusiveMinimum"]), rat(m["exclusiveMaximum"]), rat(m["multipleOf"])
	if open, _ := m["exclusiveMinimum"].(bool); open { // draft 4
		s.minimum, s.above = nil, s.minimum
	}
	if open, _ := m["exclusiveMaximum"].(bool); open {
		s.maximum, s.below = nil, s.maximum
	}
	for key, to := range map[string]*int{"minLength": &s.minLength, "maxLength": &s.maxLength, "minItems": &s.minItems,
		"maxItems":    &s.maxItems,
		"minContains": &s.minContains, "maxContains": &s.maxContains, "minProperties": &s.minProps,
		"maxProperties": &s.maxProps} {
		if n, ok := m[key].(json.Number); ok {
			*to = whole(n)
		}
	}
	s.required = texts(m["required"])
	if d, ok := m["dependentRequired"].(map[string]any); ok {
		s.dependent = map[string][]string{}
		for name, needs := range d {
			s.dependent[name] = texts(needs)
		}
	}
	one := func(key string, to **schema) {
		if v, ok := m[key]; ok && err == nil {
			*to, err = g.read(s.doc, v, s.base, s.at+"/"+jsondiff.Escape(key), s.place+"/"+jsondiff.Escape(key))
		}
	}
	several := func(key string, to *[]*schema) {
		for i, v := range list(m[key]) {
			if err == nil {
				var x *schema
				x, err = g.read(s.doc, v, s.base, fmt.Sprintf("%s/%s/%d", s.at, key, i),
					fmt.Sprintf("%s/%s/%d", s.place, key, i))
				*to = append(*to, x)
			}
		}
	}
	named := func(key string, to *map[string]*schema) {
		of, ok := m[key].(map[string]any)
		if !ok {
			return
		}
		*to = map[string]*schema{}
		for _, name := range slices.Sorted(maps.Keys(of)) {
			if err == nil {
				(*to)[name], err = g.read(s.doc, of[name], s.base,
					s.at+"/"+key+"/"+url.PathEscape(jsondiff.Escape(name)), s.place+"/"+key+"/"+jsondiff.Escape(name))
			}
		}
	}
	var defs map[string]*schema
	named("$defs", &defs)
	named("definitions", &defs)
	several("allOf", &s.allOf)
	several("anyOf", &s.anyOf)
	several("oneOf", &s.oneOf)
	one("not", &s.not)
	one("if", &s.when)
	one("then", &s.then)
	one("else", &s.otherwise)
	if _, tuple := m["items"].([]any); tuple && s.doc.dialect < 2020 {
		several("items", &s.prefixItems)
		one("additionalItems", &s.items)
	} else {
		several("prefixItems", &s.prefixItems)
		one("items", &s.items)
	}
	one("contains", &s.contains)
	one("unevaluatedItems", &s.unevaluatedItems)
	named("properties", &s.properties)
	named("patternProperties", &s.patternProps)
	one("additionalProperties", &s.additional)
	one("propertyNames", &s.names)
	named("dependentSchemas", &s.dependentSchema)
	one("unevaluatedProperties", &s.unevaluated)
	if of, ok := m["dependencies"].(map[string]any); ok && s.doc.dialect < 2019 && err == nil {
		err = g.dependencies(s, of)
	}
	s.propNames, s.propOrder = sorted(s.properties), sorted(s.patternProps)
	if a, ok := m[Keyword]; ok && err == nil {
		if s.made, err = annotate(a, s); err == nil && s.made.shared != "" {
			g.sharing[s.made.shared] = append(g.sharing[s.made.shared], s)
		}
	}
	return err
}

// dependencies reads what is two keywords today.
func (g *Generator) dependencies(s *schema, of map[string]any) (err error) {
	s.dependent, s.dependentSchema = map[string][]string{}, map[string]*schema{}
	for _, name := range sorted(of) {
		if needs, ok := of[name].([]any); ok {
			s.dependent[name] = texts(needs)
		} else if err == nil {
			below := "/dependencies/" + jsondiff.Escape(name)
			s.dependentSchema[name], err = g.read(s.doc, of[name], s.base,
				s.at+"/dependencies/"+url.PathEscape(jsondiff.Escape(name)), s.place+below)
		}
	}
	return err
}

// texts returns a list's members as texts.
func texts(of any) (out []string) {
	for _, x := range list(of) {
		out = append(out, fmt.Sprint(x))
	}
	return out
}

func list(v any) []any {
	l, _ := v.([]any)
	return l
}

func rat(v any) *big.Rat {
	n, ok := v.(json.Number)
	if !ok {
		return nil
	}
	r, _ := text.Rational(string(n))
	return r
}

const mostExponent = text.MostExponent

// tooLarge returns a number of a schema that is too large to be computed with, and its place; "" where there is none.
func tooLarge(v any, at string) (place, number string) {
	switch v := v.(type) {
	case json.Number:
		if _, ok := text.Rational(string(v)); !ok {
			return at, string(v)
		}
	case []any:
		for i, x := range v {
			if place, number := tooLarge(x, fmt.Sprint(at, "/", i)); number != "" {
				return place, number
			}
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			if place, number := tooLarge(v[name], at+"/"+name); number != "" {
				return place, number
			}
		}
	}
	return "", ""
}

// whole reads a count; one that is too large for a payload is as good as the
// largest.
func whole(n json.Number) int {
	r, ok := text.Rational(string(n))
	if !ok || !r.IsInt() || !r.Num().IsInt64() || r.Num().Int64() > 1<<30 {
		return 1 << 30
	}
	return int(r.Num().Int64())
}

func resolve(base, ref string) (string, error) {
	b, err := url.Parse(base)
	if err != nil {
		return "", err
	}
	r, err := url.Parse(ref)
	if err != nil {
		return "", err
	}
	u := b.ResolveReference(r)
	return strings.TrimSuffix(u.String(), "#"), nil
}

// refs returns the subschemas that a subschema refers to.
func (s *schema) refs() (out []*schema) {
	for _, to := range [...]*schema{s.refTo, s.dynTo} {
		if to != nil {
			out = append(out, to)
		}
	}
	return out
}

// target returns the subschema that a reference means; nil for no reference.
func (g *Generator) target(s *schema, ref string, dynamic bool) (*schema, error) {
	if ref == "" {
		return nil, nil
	}
	full, err := resolve(s.base, ref)
	if err != nil {
		return nil, &Refused{s.place, fmt.Sprintf("$ref %q: %v", ref, err)}
	}
	uri, fragment, _ := strings.Cut(full, "#")
	if dynamic && g.dynamic[fragment] != nil && !strings.HasPrefix(fragment, "/") {
		return g.dynamic[fragment], nil
	}
	for _, known := range []map[string]*schema{g.byURI, g.anchors} {
		if x := known[full]; x != nil {
			return x, nil
		}
	}
	resource := g.byURI[uri]
	if resource == nil {
		doc, err := g.fetch(uri)
		if err != nil {
			return nil, &Refused{s.place, fmt.Sprintf("$ref %q: %v", ref, err)}
		}
		if resource, err = g.document(doc); err != nil {
			return nil, err
		}
		if dynamic && g.dynamic[fragment] != nil {
			return g.dynamic[fragment], nil
		}
		if x := g.anchors[full]; x != nil {
			return x, nil
		}
	}
	x, err := g.within(resource, fragment)
	if x == nil && err == nil {
		err = &Refused{s.place, fmt.Sprintf("$ref %q does not exist", ref)}
	}
	return x, err
}

// fetch returns a document of the standard, or one that is loaded.
func (g *Generator) fetch(uri string) (*document, error) {
	plain, err := standard(uri)
	if plain == nil && err == nil {
		plain, err = g.load(uri)
	}
	if err != nil {
		return nil, err
	}
	return newDocument(plain, uri)
}

// within returns the subschema at a pointer of a resource, also where no keyword
// leads to it; nil for none.
func (g *Generator) within(resource *schema, pointer string) (*schema, error) {
	pointer, err := url.PathUnescape(pointer)
	if err != nil || pointer != "" && pointer[0] != '/' {
		return nil, nil
	}
	place := resource.place + pointer
	doc := resource.doc
	if x := doc.places[place]; x != nil {
		return x, nil
	}
	path, err := jsondiff.Parse(place)
	if err != nil {
		return nil, nil
	}
	v, at, base := doc.content, "", doc.uri
	for _, name := range path {
		if x := doc.places[at]; x != nil {
			base = x.base
		}
		switch of := v.(type) {
		case map[string]any:
			x, ok := of[name]
			if !ok {
				return nil, nil
			}
			v = x
		case []any:
			i, err := strconv.Atoi(name)
			if err != nil || i < 0 || i >= len(of) {
				return nil, nil
			}
			v = of[i]
		default:
			return nil, nil
		}
		at += "/" + jsondiff.Escape(name)
	}
	uri := doc.uri + "#"
	for _, name := range path {
		uri += "/" + url.PathEscape(jsondiff.Escape(name))
	}
	return g.read(doc, v, base, uri, place)
}

//go:embed standard
var standards embed.FS

// standard returns a schema of the standard itself; nil for another.
func standard(uri string) (any, error) {
	_, rest, ok := strings.Cut(uri, "://json-schema.org/")
	if !ok {
		return nil, nil
	}
	rest = strings.TrimPrefix(rest, "draft/")
	if file, ok := strings.CutSuffix(rest, "/schema"); ok {
		rest = file
	} else {
		rest = strings.Replace(rest, "/meta/", "/", 1)
	}
	text, err := standards.ReadFile("standard/" + rest + ".json")
	if err != nil {
		return nil, fmt.Errorf("%s is not a schema of the standard", uri)
	}
	return jsonschema.UnmarshalJSON(bytes.NewReader(text))
}

// loading makes the validator load what the generator loads.
type loading struct{ load Load }

func (l loading) Load(uri string) (any, error) {
	plain, err := standard(uri)
	if plain == nil && err == nil {
		plain, err = l.load(uri)
	}
	if err != nil {
		return nil, err
	}
	doc, err := newDocument(plain, uri)
	if err != nil {
		return nil, err
	}
	return doc.content, nil
}

// costs computes how deeply a value of each subschema is nested at least, so
// that recursion can be brought to its end. It is the least solution of what
// each subschema asks of those below it.
func (g *Generator) costs() {
	for changed := true; changed; {
		changed = false
		for _, s := range g.all {
			if c := g.costOf(s); c < s.cost {
				s.cost, changed = c, true
			}
		}
	}
}

// without returns why no value of the whole ends.
func (g *Generator) without() *Refused {
	s, seen := g.root, map[*schema]bool{}
	for !seen[s] {
		seen[s] = true
		for _, x := range s.needed() {
			if x != nil && x.cost >= endless {
				s = x
				break
			}
		}
	}
	if s.never() {
		return &Refused{s.place, "nothing is allowed here, but it is required"}
	}
	return &Refused{s.place, "no finite value exists: it requires itself endlessly"}
}

func (g *Generator) costOf(s *schema) int {
	if s.always != nil {
		if *s.always {
			return 1
		}
		return endless
	}
	if s.hasConst || s.enum != nil {
		return 1
	}
	most := 1
	add := func(c int) { most = max(most, min(c, endless)) }
	for _, to := range s.refs() {
		add(to.cost)
	}
	for _, x := range s.allOf {
		add(x.cost)
	}
	for _, choice := range [][]*schema{s.anyOf, s.oneOf} {
		if len(choice) > 0 {
			least := endless
			for _, x := range choice {
				least = min(least, x.cost)
			}
			add(least)
		}
	}
	if only(s.types, "object") {
		for _, name := range s.required {
			if x := s.properties[name]; x != nil {
				add(1 + x.cost)
			}
		}
	}
	if only(s.types, "array") {
		for i := range s.minItems {
			if i < len(s.prefixItems) {
				add(1 + s.prefixItems[i].cost)
			} else if s.items != nil {
				add(1 + s.items.cost)
				break
			}
		}
		if s.contains != nil && s.minContains > 0 {
			add(1 + s.contains.cost)
		}
	}
	return most
}

func only(types []string, name string) bool { return len(types) == 1 && types[0] == name }

// fits reports whether a value fits a subschema.
func (g *Generator) fits(s *schema, v any) bool {
	if s.always != nil {
		return *s.always
	}
	if s.dynamicRef != "" || s.recursive {
		// by itself it would be looked at in another scope than as a part of the
		// whole; what stands beside it is looked at with the whole
		if s.recursive {
			return g.fits(s.refTo, v)
		}
		return g.fits(s.dynTo, v)
	}
	if s.validator == nil {
		var err error
		if s.validator, err = g.compiler.Compile(s.at); err != nil {
			return false
		}
	}
	return s.validator.Validate(simple(v)) == nil
}

// object is an object that is being made: its members sorted by their names.
type object struct {
	names  []string
	values []any
}

// simple returns a value as the validator takes it.
func simple(v any) any {
	switch v := v.(type) {
	case *object:
		m := make(map[string]any, len(v.names))
		for i, name := range v.names {
			m[name] = simple(v.values[i])
		}
		return m
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = simple(x)
		}
		return out
	}
	return v
}

// write writes a value as compact JSON, members sorted by name.
func write(b []byte, v any) []byte {
	switch v := v.(type) {
	case *object:
		b = append(b, '{')
		for i, name := range v.names {
			if i > 0 {
				b = append(b, ',')
			}
			b = write(append(event.AppendString(b, name), ':'), v.values[i])
		}
		return append(b, '}')
	case map[string]any:
		b = append(b, '{')
		for i, name := range slices.Sorted(maps.Keys(v)) {
			if i > 0 {
				b = append(b, ',')
			}
			b = write(append(event.AppendString(b, name), ':'), v[name])
		}
		return append(b, '}')
	case []any:
		b = append(b, '[')
		for i, x := range v {
			if i > 0 {
				b = append(b, ',')
			}
			b = write(b, x)
		}
		return append(b, ']')
	case string:
		return event.AppendString(b, v)
	case json.Number:
		return append(b, v...)
	case bool:
		return strconv.AppendBool(b, v)
	}
	return append(b, "null"...)
}

// Why returns the innermost first reason of a validation's error, with its place;
// "" for no error.
func Why(err error) string {
	if err == nil {
		return ""
	}
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return err.Error()
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	lines := strings.Split(strings.TrimSpace(v.Error()), "\n")
	return strings.TrimPrefix(strings.TrimSpace(lines[len(lines)-1]), "- ")
}

// Compiler returns a validator's compiler of the same dialect and patterns as the
// generator's; load loads what a schema refers to.
func Compiler(load jsonschema.URLLoader) *jsonschema.Compiler {
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.UseLoader(load)
	c.AssertFormat()
	c.UseRegexpEngine(engine)
	return c
}
