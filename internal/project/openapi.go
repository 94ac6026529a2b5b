package project

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/rng"
)

// API is a description of an HTTP API in OpenAPI 3.0 or 3.1, from which requests
// are made.
type API struct {
	Operations []*Operation // in the order of their paths and methods
	Files      []string     // that were read
	doc        map[string]any
}

// Operation is one of its operations.
type Operation struct {
	Method, Path, ID string
	parameters       []parameter
	bodies           []string // media types that can be made
	g                []*generate.Generator
	required         map[string]bool // the parts that have required parameters
	Wrong            error           // why no requests can be made for it
}

type parameter struct {
	name, in, style string
	explode, asJSON bool
}

// methods are those of OpenAPI, in the order in which operations are listed.
var methods = []string{"get", "head", "options", "put", "post", "patch", "delete", "trace"}

// LoadAPI reads an OpenAPI description. Files that it refers to are below dir.
func LoadAPI(ctx context.Context, path, dir string) (*API, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	text, err := ReadFile(path, mostSchema)
	if err != nil {
		return nil, err
	}
	files := &local{dir: dir}
	loader := openapi3.NewLoader()
	loader.IsExternalRefsAllowed = true
	loader.ReadFromURIFunc = func(_ *openapi3.Loader, u *url.URL) ([]byte, error) {
		at, err := files.inside(u.Path)
		if u.Scheme != "" && u.Scheme != "file" {
			err = fmt.Errorf("%s is on the network; nothing is fetched", u)
		}
		if err != nil {
			return nil, err
		}
		return ReadFile(at, mostSchema)
	}
	// what is only unwise in it, such as paths that are hard to distinguish, is no
	// reason to make nothing from it
	checked, err := loader.LoadFromDataWithPath(text, &url.URL{Path: filepath.ToSlash(path)})
	if err != nil {
		return nil, fmt.Errorf("not OpenAPI 3: %s", inOneLine(err.Error()))
	}
	if !strings.HasPrefix(checked.OpenAPI, "3.") {
		return nil, fmt.Errorf("not OpenAPI 3: openapi is %q; expected 3.0 or 3.1", checked.OpenAPI)
	}
	doc, err := describes(text, checked.OpenAPI)
	if err != nil {
		return nil, err
	}
	a := &API{doc: doc, Files: []string{path}}
	base := fileURL(path)
	load := func(uri string) (any, error) {
		if uri == base {
			return doc, nil
		}
		u, err := url.Parse(uri)
		if err != nil {
			return nil, err
		}
		at, err := files.inside(u.Path)
		if err != nil {
			return nil, err
		}
		more, err := ReadFile(at, mostSchema)
		if err != nil {
			return nil, err
		}
		a.Files = append(a.Files, at)
		return describes(more, checked.OpenAPI)
	}
	paths, _ := doc["paths"].(map[string]any)
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		item, _ := paths[p].(map[string]any)
		for _, method := range methods {
			if of, ok := item[method].(map[string]any); ok {
				o := a.operation(p, method, item, of, base, load)
				for _, g := range o.g {
					g.Until(ctx.Err)
				}
				a.Operations = append(a.Operations, o)
			}
		}
	}
	if len(a.Operations) == 0 {
		return nil, errors.New("it describes no operations")
	}
	return a, nil
}

func inOneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// describes reads JSON or YAML, and returns it as JSON would be read, the schemas
// of OpenAPI 3.0 in the words of JSON Schema.
func describes(text []byte, version string) (map[string]any, error) {
	var v any
	if err := yaml.UnmarshalWithOptions(text, &v, yaml.UseOrderedMap()); err != nil {
		return nil, fmt.Errorf("not valid YAML or JSON: %w", err)
	}
	plain, err := json.Marshal(toJSON(v))
	if err != nil {
		return nil, err
	}
	read, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
	if err != nil {
		return nil, err
	}
	doc, ok := read.(map[string]any)
	if !ok {
		return nil, errors.New("it is not an object")
	}
	doc["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	if strings.HasPrefix(version, "3.0") {
		doc["$schema"] = "http://json-schema.org/draft-04/schema"
		nullable(doc)
	}
	return doc, nil
}

// toJSON returns mappings of YAML as JSON has them.
func toJSON(v any) any {
	switch v := v.(type) {
	case yaml.MapSlice:
		m := map[string]any{}
		for _, x := range v {
			m[fmt.Sprint(x.Key)] = toJSON(x.Value)
		}
		return m
	case []any:
		for i := range v {
			v[i] = toJSON(v[i])
		}
	}
	return v
}

// nullable writes what OpenAPI 3.0 calls nullable as a type.
func nullable(v any) {
	switch v := v.(type) {
	case map[string]any:
		if v["nullable"] == true {
			if t, ok := v["type"].(string); ok {
				v["type"] = []any{t, "null"}
			}
			if e, ok := v["enum"].([]any); ok {
				v["enum"] = append(slices.Clone(e), nil)
			}
		}
		for _, x := range v {
			nullable(x)
		}
	case []any:
		for _, x := range v {
			nullable(x)
		}
	}
}

// resolved follows a reference within the description.
func (a *API) resolved(v any, pointer string) (map[string]any, string) {
	for range 16 {
		m, _ := v.(map[string]any)
		ref, ok := m["$ref"].(string)
		if !ok || !strings.HasPrefix(ref, "#/") {
			return m, pointer
		}
		plain, err := url.PathUnescape(ref[1:])
		if err != nil {
			return nil, pointer
		}
		v, _ = jsondiff.Lookup(a.doc, plain)
		pointer = plain
	}
	return nil, pointer
}

// operation reads one operation. Its requests are made as one object of path,
// query, header, cookie and body.
func (a *API) operation(path, method string, item, of map[string]any, base string, load generate.Load) *Operation {
	o := &Operation{Method: strings.ToUpper(method), Path: path}
	o.ID, _ = of["operationId"].(string)
	at := jsondiff.Pointer([]string{"paths", path})
	ref := func(pointer string) any {
		var b strings.Builder
		for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
			b.WriteString("/" + url.PathEscape(part))
		}
		return map[string]any{"$ref": base + "#" + b.String()}
	}
	parts := map[string]map[string]any{}
	required := map[string][]any{}
	seen := map[string]bool{}
	take := func(list any, pointer string) {
		all, _ := list.([]any)
		for i := range all {
			p, place := a.resolved(all[i], fmt.Sprintf("%s/%d", pointer, i))
			name, _ := p["name"].(string)
			in, _ := p["in"].(string)
			if name == "" || seen[in+" "+name] || in == "header" && (strings.EqualFold(name, "accept") ||
				strings.EqualFold(name, "content-type") || strings.EqualFold(name, "authorization")) {
				continue
			}
			seen[in+" "+name] = true
			schema := ref(place + "/schema")
			if content, ok := p["content"].(map[string]any); ok {
				for _, kind := range slices.Sorted(maps.Keys(content)) {
					schema = ref(place + "/content/" + jsondiff.Escape(kind) + "/schema")
				}
			} else if p["schema"] == nil {
				schema = true
			}
			if parts[in] == nil {
				parts[in] = map[string]any{}
			}
			parts[in][name] = schema
			if p["required"] == true || in == "path" {
				required[in] = append(required[in], name)
			}
			x := parameter{name: name, in: in, explode: in == "query" || in == "cookie", asJSON: p["content"] != nil}
			x.style, _ = p["style"].(string)
			if e, ok := p["explode"].(bool); ok {
				x.explode = e
			}
			o.parameters = append(o.parameters, x)
		}
	}
	take(of["parameters"], at+"/"+method+"/parameters")
	take(item["parameters"], at+"/parameters")
	whole := map[string]any{}
	must := []any{}
	o.required = map[string]bool{}
	for in, properties := range parts {
		s := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
		if required[in] != nil {
			s["required"] = required[in]
			must = append(must, in)
			o.required[in] = true
		}
		whole[in] = s
	}
	body, place := a.resolved(of["requestBody"], at+"/"+method+"/requestBody")
	content, _ := body["content"].(map[string]any)
	kinds := slices.DeleteFunc(slices.Sorted(maps.Keys(content)), func(kind string) bool { return formOf(kind) == "" })
	several := len(kinds) > 1
	if len(content) > 0 && len(kinds) == 0 && body["required"] == true {
		o.Wrong = fmt.Errorf("%s %s: no body of the kind %s can be made", o.Method, path,
			strings.Join(slices.Sorted(maps.Keys(content)), ", "))
	}
	if len(kinds) == 0 {
		kinds = []string{""}
	}
	var unmade error // why bodies of a kind cannot be made
	for _, kind := range kinds {
		properties, needs := maps.Clone(whole), slices.Clone(must)
		if kind != "" {
			properties["body"] = any(true)
			if media, _ := content[kind].(map[string]any); media["schema"] != nil {
				properties["body"] = ref(place + "/content/" + jsondiff.Escape(kind) + "/schema")
			}
			if body["required"] == true || several {
				needs = append(needs, "body")
			}
		}
		slices.SortFunc(needs, func(a, b any) int { return strings.Compare(a.(string), b.(string)) })
		schema := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object",
			"properties": properties, "required": needs, "additionalProperties": false}
		text, err := json.Marshal(schema)
		if err == nil && o.Wrong == nil {
			var g *generate.Generator
			if g, err = generate.Open(text, "https://nightdrill.invalid/request.json", load); err == nil {
				if why := o.sample(g, kind); why != nil {
					unmade = why
					continue
				}
				o.g, o.bodies = append(o.g, g), append(o.bodies, kind)
			}
		}
		if err != nil && o.Wrong == nil {
			o.Wrong = fmt.Errorf("%s %s: %w", o.Method, path, err)
		}
	}
	if len(o.g) == 0 && o.Wrong == nil {
		o.Wrong = unmade
	}
	return o
}

// sample returns why bodies of a kind other than JSON cannot be made, or nil.
func (o *Operation) sample(g *generate.Generator, kind string) error {
	if form := formOf(kind); form == "" || form == "json" || form == "text" || form == "binary" {
		return nil
	}
	for n := range uint64(samples) {
		text, _, err := (&payload.Made{Mode: "valid"}).Make(g, 1, n)
		if err != nil {
			return nil // it is said when it is made
		}
		v, _ := jsondiff.Decode(text) // it was just written
		parts, _ := v.(map[string]any)
		if _, err = o.request(parts, kind, 1, n); err == nil {
			return nil
		} else if n == samples-1 {
			return err
		}
	}
	return nil
}

// samples is how many requests are tried before a kind of body is left out.
const samples = 5

// formOf returns the form of bodies of a media type; "" for one that cannot be made.
func formOf(kind string) string {
	base, _, _ := strings.Cut(strings.ToLower(kind), ";")
	switch base = strings.TrimSpace(base); {
	case event.IsJSON(base):
		return "json"
	case base == "application/x-www-form-urlencoded":
		return "form"
	case base == "multipart/form-data":
		return "multipart"
	case base == "text/csv":
		return "csv"
	case strings.HasPrefix(base, "text/"):
		return "text"
	case base == "application/octet-stream", strings.HasPrefix(base, "image/"), strings.HasPrefix(base, "audio/"),
		strings.HasPrefix(base, "video/"):
		return "binary"
	}
	return ""
}

// Find returns the operations that a name means: an operationId, METHOD PATH, or
// all for "".
func (a *API) Find(name string) ([]*Operation, error) {
	if name == "" {
		return a.Operations, nil
	}
	var names []string
	for _, o := range a.Operations {
		if o.ID == name || strings.EqualFold(o.Method+" "+o.Path, name) {
			return []*Operation{o}, nil
		}
		names = append(names, o.Method+" "+o.Path)
	}
	return nil, fmt.Errorf("unknown operation %q%s; available: %s", name, didYouMean(name, names), listed(names))
}

// Make returns request n of a seed for an operation, one body kind after the other.
func (o *Operation) Make(mode string, seed, n uint64) (p payload.Payload, breaks string, err error) {
	if o.Wrong != nil {
		return p, "", o.Wrong
	}
	which := int(n % uint64(len(o.g)))
	made, g, kind := payload.Made{Mode: mode}, o.g[which], o.bodies[which]
	for attempt := range uint64(attempts) {
		text, breaks, err := made.Make(g, seed^attempt*0x9e3779b97f4a7c15, n)
		if err != nil {
			return p, "", fmt.Errorf("%s %s: %w", o.Method, o.Path, err)
		}
		v, err := jsondiff.Decode(text)
		if err != nil {
			return p, "", err
		}
		parts, _ := v.(map[string]any)
		r, err := o.request(parts, kind, seed, n)
		switch {
		case err != nil && attempt < attempts-1: // such as a form of a text, in place of an object
		case err != nil:
			return p, "", err
		case mode != "broken" || o.shows(g, parts, kind):
			return payload.Payload{Request: r}, breaks, nil
		}
	}
	return p, "", fmt.Errorf("%s %s: nothing in it can be violated on its own so that the request shows it, so no "+
		"broken request can be made", o.Method, o.Path)
}

// attempts is how often a request is made anew that is not broken as it goes out.
const attempts = 60

// shows reports whether a request that is to be broken is broken as it goes out: whoever reads
// it sees what is in it, without the types of parameters and forms, and would not take it.
func (o *Operation) shows(g *generate.Generator, parts map[string]any, kind string) bool {
	whole := o.arrives(parts, kind)
	takes := func() bool { return g.Validator().Validate(whole) == nil }
	if takes() {
		return false
	}
	vary := func(of map[string]any, name string, others []any) bool {
		was := of[name]
		defer func() { of[name] = was }()
		for _, other := range others {
			if of[name] = other; takes() {
				return true
			}
		}
		return false
	}
	for _, p := range o.parameters {
		of, _ := whole[p.in].(map[string]any)
		if v, there := of[p.name]; there && !p.asJSON && vary(of, p.name, payload.Alike(v)) {
			return false
		}
	}
	if body, there := whole["body"]; there {
		return !payload.Taken(formOf(kind), body, func(v any) bool {
			whole["body"] = v
			return takes()
		})
	}
	return true
}

// arrives returns the parts of a request that are in it as it goes out.
func (o *Operation) arrives(parts map[string]any, kind string) map[string]any {
	whole := map[string]any{}
	for _, in := range []string{"path", "query", "header", "cookie"} {
		values, _ := parts[in].(map[string]any)
		of := map[string]any{}
		for _, p := range o.parameters {
			v, there := values[p.name]
			switch {
			case p.in != in:
			case there && p.written(v):
				of[p.name] = v
			case !there && in == "path":
				of[p.name] = "{" + p.name + "}" // its place is still there
			}
		}
		if len(of) > 0 || o.required[in] {
			whole[in] = of
		}
	}
	if body, there := parts["body"]; there && kind != "" {
		whole["body"] = body
	}
	return whole
}

// written reports whether anything of a parameter's value is in a request.
func (p *parameter) written(v any) bool {
	if p.in == "header" && strings.ContainsAny(strings.Join(texts(v), ","), "\r\n\x00") {
		return false
	}
	if p.in != "query" || p.asJSON {
		return true
	}
	return len(p.query(v)) > 0
}

func (o *Operation) request(parts map[string]any, kind string, seed, n uint64) (*event.Request, error) {
	values := func(in string) map[string]any {
		m, _ := parts[in].(map[string]any)
		return m
	}
	r := &event.Request{Method: o.Method}
	target, query, cookies := o.Path, []string{}, []string{}
	for _, p := range o.parameters {
		v, there := values(p.in)[p.name]
		if !there {
			continue
		}
		switch p.in {
		case "path":
			target = strings.ReplaceAll(target, "{"+p.name+"}", p.listed(v, url.PathEscape))
		case "query":
			query = append(query, p.query(v)...)
		case "header":
			if s := strings.Join(texts(v), ","); !strings.ContainsAny(s, "\r\n\x00") {
				r.Header = append(r.Header, event.Field{Name: p.name, Value: s})
			}
		case "cookie":
			cookies = append(cookies, p.name+"="+p.listed(v, url.QueryEscape))
		}
	}
	if r.Target = target; len(query) > 0 {
		r.Target += "?" + strings.Join(query, "&")
	}
	if len(cookies) > 0 {
		r.Header = append(r.Header, event.Field{Name: "Cookie", Value: strings.Join(cookies, "; ")})
	}
	if body, there := parts["body"]; there && kind != "" {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		form := formOf(kind)
		if _, isText := body.(string); form == "binary" && !isText { // without a schema anything may come
			text = fmt.Appendf(nil, "%q", strings.Repeat("x", 1+rng.New(seed, n).Below(200)))
		}
		var made string
		if r.Body, made, err = payload.EncodeBody(form, text, seed, n); err != nil {
			return nil, fmt.Errorf("%s %s: the body as %s: %w", o.Method, o.Path, kind, err)
		}
		if form != "multipart" {
			made = kind
		}
		r.Header = append(r.Header, event.Field{Name: "Content-Type", Value: made})
	}
	return r, nil
}

// query writes a parameter as name=value pairs (OpenAPI 3.1, Parameter Object,
// style).
func (p *parameter) query(v any) (out []string) {
	name := url.QueryEscape(p.name)
	pair := func(name, value string) { out = append(out, name+"="+url.QueryEscape(value)) }
	if p.asJSON {
		pair(name, payload.PlainText(v))
		return out
	}
	switch v := v.(type) {
	case []any:
		if p.explode && p.style != "spaceDelimited" && p.style != "pipeDelimited" {
			for _, x := range v {
				pair(name, payload.PlainText(x))
			}
			return out
		}
		if len(v) > 0 {
			out = append(out, name+"="+p.listed(v, url.QueryEscape))
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			switch {
			case p.style == "deepObject":
				pair(name+"%5B"+url.QueryEscape(key)+"%5D", payload.PlainText(v[key]))
			case p.explode:
				pair(url.QueryEscape(key), payload.PlainText(v[key]))
			}
		}
		if !p.explode && p.style != "deepObject" && len(v) > 0 {
			out = append(out, name+"="+p.listed(v, url.QueryEscape))
		}
	default:
		pair(name, payload.PlainText(v))
	}
	return out
}

// listed writes the values of a list or an object with what separates them, which is not
// escaped: an escaped one belongs to a value (OpenAPI 3.1, Parameter Object, style).
func (p *parameter) listed(v any, escape func(string) string) string {
	between, known := map[string]string{"spaceDelimited": "%20", "pipeDelimited": "%7C"}[p.style]
	if !known || p.in != "query" {
		between = ","
	}
	out := texts(v)
	for i := range out {
		out[i] = escape(out[i])
	}
	return strings.Join(out, between)
}

func texts(v any) (out []string) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			out = append(out, payload.PlainText(x))
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			out = append(out, key, payload.PlainText(v[key]))
		}
	default:
		out = append(out, payload.PlainText(v))
	}
	return out
}

// Usable returns the operations of which requests can be made, and why not of the others.
func Usable(all []*Operation) (usable []*Operation, left []error) {
	for _, o := range all {
		if o.Wrong != nil {
			left = append(left, o.Wrong)
		} else {
			usable = append(usable, o)
		}
	}
	return usable, left
}
