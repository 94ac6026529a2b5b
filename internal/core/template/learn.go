package template

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
)

// Kind is what an example is learned for: what the events of its source have.
type Kind uint8

// What events have: attributes and data; an object of a bucket; the parts of a request.
const (
	Attributes Kind = iota
	Object
	Request
)

// Found is a place of an example that corresponds to a part of an event.
type Found struct {
	At    string // JSON Pointer (RFC 6901)
	Part  string // of the event, in words
	Value string // in the example, as JSON
	Anew  bool   // an id or a time, made anew, that is not the first of its kind
}

// Learned is a template that was learned from an example.
type Learned struct {
	Template string
	Found    []Found
	Constant int            // how many values stay as they are
	Events   []*event.Event // what the example is of
	Request  *event.Request // likewise, where it is of a request
	// of what the template makes of these, from the example, except for what is made anew
	Differs []jsondiff.Difference
}

// draft is the event that an example is of, as far as it is known.
type draft struct {
	id, subject, bucket, partition, contentType, link string
	size                                              json.Number
	time                                              time.Time
	method, path, query                               string
	header, parameters                                []event.Field
	text                                              []byte
	hasText                                           bool
}

type learner struct {
	kind   Kind
	draft  *draft
	all    []*draft // of a list
	root   string   // "." or "$e."
	found  []Found
	same   int
	ranged bool
	first  bool // the first pass, which only looks
}

// Learn makes a template of an example of what a function's platform sends it: what corresponds to a part
// of an event becomes an action, ids and times are made anew, and the rest stays as it is. The template is
// applied to the event that the example is of; Differs has where the two are not the same. The error is that
// of the JSON, or that nothing in it corresponds to anything.
func Learn(example []byte, kind Kind) (*Learned, error) {
	if !utf8.Valid(example) {
		return nil, errors.New("it is not UTF-8")
	}
	v, err := jsondiff.Decode(example)
	if err != nil {
		return nil, fmt.Errorf("it is not JSON: %w", err)
	}
	if deeper(v, deepestExample) {
		return nil, fmt.Errorf("it is nested deeper than %d levels", deepestExample)
	}
	l := &learner{kind: kind, draft: &draft{}, root: ".", first: true}
	l.value("", "", "", example, 0)
	l.first, l.ranged, l.found, l.same = false, false, nil, 0
	l.all = nil
	out := &Learned{Template: l.value("", "", "", example, 0) + "\n", Found: l.found, Constant: l.same}
	if len(l.found) == 0 {
		return nil, errors.New("nothing in it corresponds to a part of an event")
	}
	if kind == Request {
		out.Request = l.draft.request()
	} else if out.Events = append(out.Events, l.draft.event(kind)); len(l.all) > 0 {
		out.Events = nil
		if l.all[0].time.IsZero() { // what stands beside the list is of the first
			l.all[0].time = l.draft.time
		}
		take(&l.all[0].id, l.draft.id)
		for _, d := range l.all {
			out.Events = append(out.Events, d.event(kind))
		}
	}
	shape, err := Parse("the template", out.Template, "")
	if err != nil {
		return nil, err
	}
	var body []byte
	if kind == Request {
		body, _, err = shape.RequestBody(out.Request, l.draft.id, l.draft.time, nil)
	} else {
		body, _, err = shape.Body(out.Events, l.draft.time, nil)
	}
	if err != nil {
		return nil, err
	}
	var anew []string
	for _, f := range l.found {
		if f.Anew {
			anew = append(anew, f.At)
		}
	}
	out.Differs = jsondiff.Between(example, body, anew)
	return out, nil
}

// deepestExample is how deep the values of an example may be nested.
const deepestExample = 64

// deeper reports whether a value is nested deeper than so many levels.
func deeper(v any, levels int) bool {
	if levels == 0 {
		return true
	}
	switch v := v.(type) {
	case map[string]any:
		for _, x := range v {
			if deeper(x, levels-1) {
				return true
			}
		}
	case []any:
		return slices.ContainsFunc(v, func(x any) bool { return deeper(x, levels-1) })
	}
	return false
}

func (d *draft) event(kind Kind) *event.Event {
	e := &event.Event{ID: d.id, Source: "/example", Type: "example", Subject: d.subject, Time: d.time, Data: d.text}
	if d.partition != "" {
		e.Extensions = []event.Field{{Name: "partitionkey", Value: d.partition}}
	}
	if kind == Object {
		size, _ := d.size.Int64()
		o := event.Object{Bucket: d.bucket, Key: d.subject, Action: event.Created, Size: size,
			ContentType: d.contentType, URL: d.link}
		e.Data, _ = json.Marshal(o) // plain data always marshals
	}
	return e
}

func (d *draft) request() *event.Request {
	r := &event.Request{Method: d.method, Target: d.path, Header: d.header, Body: d.text}
	if r.Method == "" {
		r.Method = "GET"
	}
	if r.Target == "" {
		r.Target = "/"
	}
	query := d.query
	if query == "" {
		values := url.Values{}
		for _, p := range d.parameters {
			values.Add(p.Name, p.Value)
		}
		query = values.Encode()
	}
	if query != "" {
		r.Target += "?" + query
	}
	return r
}

type member struct {
	name string
	raw  json.RawMessage
}

// members returns what is in an object, or in a list, in its order.
func members(raw []byte) (out []member) {
	d := json.NewDecoder(bytes.NewReader(raw))
	open, _ := d.Token() // it was read whole before
	for d.More() {
		var m member
		if open == json.Delim('{') {
			name, _ := d.Token()
			m.name, _ = name.(string)
		}
		_ = d.Decode(&m.raw)
		out = append(out, m)
	}
	return out
}

// Words that names of members have, in small letters without what parts them.
var (
	dataWords = []string{"data", "body", "payload", "content", "message", "detail"}
	methods   = []string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"}
	timeWords = []string{"time", "timestamp", "date", "epoch", "sent", "created", "updated", "arrival"}
	keyWords  = []string{"key", "name", "object", "objectkey", "objectname", "path", "file", "filename", "blob",
		"blobname"}
	idForm     = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}$|^[0-9a-fA-F]{16,}$|^[0-9A-Za-z+/=_-]{12,}$`)
	pureDigits = regexp.MustCompile(`^\d+$`)
	layouts    = []string{"2006-01-02T15:04:05Z07:00", "2006-01-02T15:04:05.000Z07:00",
		"2006-01-02T15:04:05.000000Z07:00",
		"2006-01-02T15:04:05.000000000Z07:00", time.RFC1123, "02/Jan/2006:15:04:05 -0700", "2006-01-02 15:04:05"}
)

func plain(name string) string {
	return strings.ToLower(strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == '.' || r == ' ' {
			return -1
		}
		return r
	}, name))
}

func has(name string, words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(name, w) })
}

// action notes what was found, and returns the action for it.
func (l *learner) action(at, part string, raw []byte, anew bool, expression string) string {
	l.found = append(l.found, Found{at, part, string(bytes.TrimSpace(raw)), anew})
	return "{{" + strings.ReplaceAll(expression, "@", l.root) + "}}"
}

// constant returns a value as it is.
func (l *learner) constant(raw []byte) string {
	l.same++
	return literal(raw)
}

func literal(raw []byte) string {
	return strings.ReplaceAll(string(bytes.TrimSpace(raw)), "{{", `{{"{{"}}`)
}

// value returns the part of the template that makes a value. at is its place, name and in are what it and what
// it is in are called.
func (l *learner) value(at, name, in string, raw []byte, depth int) string {
	raw = bytes.TrimSpace(raw)
	n := plain(name)
	switch raw[0] {
	case '{', 'n':
		if text, ok := l.whole(at, n, raw); ok {
			return text
		}
		if raw[0] == 'n' {
			return l.constant(raw)
		}
		return l.object(at, n, raw, depth)
	case '[':
		return l.list(at, n, raw, depth)
	case '"':
		var s string
		_ = json.Unmarshal(raw, &s) // it was read before
		return l.text(at, n, in, s, raw)
	}
	return l.number(at, n, raw)
}

func (l *learner) object(at, in string, raw []byte, depth int) string {
	all := members(raw)
	if len(all) == 0 {
		return "{}"
	}
	var b strings.Builder
	indent := "\n" + strings.Repeat("  ", depth+1)
	before := "{"
	for _, m := range all {
		name, _ := encode(m.name) // a string always encodes
		b.WriteString(before + indent + literal([]byte(name)) + ": ")
		b.WriteString(l.value(at+"/"+jsondiff.Escape(m.name), m.name, in, m.raw, depth+1))
		before = ","
	}
	return b.String() + indent[:len(indent)-2] + "}"
}

// list returns the part of a template for a list; the first list of objects is one of events.
func (l *learner) list(at, name string, raw []byte, depth int) string {
	all := members(raw)
	if len(all) == 0 {
		return l.constant(raw)
	}
	indent := "\n" + strings.Repeat("  ", depth+1)
	isObject := func(m member) bool { return bytes.HasPrefix(bytes.TrimSpace(m.raw), []byte("{")) }
	if l.kind != Request && !l.ranged && depth <= 2 && isObject(all[0]) {
		l.ranged, l.root = true, "$e."
		outer := l.draft
		text := ""
		for i, m := range all {
			l.draft = &draft{}
			before := l.first
			l.first = true
			mark, same := len(l.found), l.same
			l.value(at+"/"+strconv.Itoa(i), "", name, m.raw, depth+1)
			l.found, l.same, l.first = l.found[:mark], same, before
			one := l.value(at+"/"+strconv.Itoa(i), "", name, m.raw, depth+1)
			l.all = append(l.all, l.draft)
			if i == 0 {
				text = one
			}
		}
		l.draft, l.root = outer, "."
		return "[{{range $i, $e := .Events}}{{if $i}},{{end}}" + indent + text + "{{end}}" + indent[:len(indent)-2] +
			"]"
	}
	var b strings.Builder
	for i, m := range all {
		if i == 0 {
			b.WriteString("[" + indent)
		} else {
			b.WriteString("," + indent)
		}
		b.WriteString(l.value(at+"/"+strconv.Itoa(i), "", name, m.raw, depth+1))
	}
	return b.String() + indent[:len(indent)-2] + "]"
}

// whole returns the action for an object, or for null in its place, that is a part of an event as a whole: headers,
// parameters, data.
func (l *learner) whole(at, name string, raw []byte) (string, bool) {
	d, null := l.draft, raw[0] == 'n'
	if l.kind != Request {
		if null || !slices.Contains(dataWords, name) || l.kind == Object || d.hasText && !l.first && !sameJSON(d.text,
			raw) {
			return "", false
		}
		for _, m := range members(raw) {
			if slices.Contains(dataWords, plain(m.name)) {
				return "", false // it is around the data
			}
		}
		if l.first && !d.hasText {
			d.text, d.hasText = slices.Clone(raw), true
		}
		return l.action(at, "data", raw, false, "json @Data"), true
	}
	if slices.Contains(dataWords, name) {
		if null {
			return l.action(at, "body", raw, false, "if @Text}}{{json @Text}}{{else}}null{{end"), true
		}
		d.text, d.hasText = slices.Clone(raw), true
		return l.action(at, "body", raw, false, "json @Data"), true
	}
	part, into := "", (*[]event.Field)(nil)
	switch {
	case has(name, "header"):
		part, into = "Header", &d.header
	case has(name, "query"):
		part, into = "Query", &d.parameters
	default:
		return "", false
	}
	fields, lists, asUsual := []event.Field{}, false, part == "Header"
	if !null {
		for _, m := range members(raw) {
			var one string
			var several []string
			switch {
			case json.Unmarshal(m.raw, &one) == nil:
				fields = append(fields, event.Field{Name: m.name, Value: one})
			case json.Unmarshal(m.raw, &several) == nil:
				lists = true
				for _, v := range several {
					fields = append(fields, event.Field{Name: m.name, Value: v})
				}
			default:
				return "", false
			}
			asUsual = asUsual && m.name == canonical(m.name)
		}
	}
	if len(*into) == 0 {
		*into = fields
	}
	expression := "@" + part
	if asUsual && len(fields) > 0 {
		expression = "canonical " + expression
	}
	if lists {
		expression = "lists (" + expression + ")"
	}
	words := "query"
	if part == "Header" {
		words = "headers"
	}
	if null {
		return l.action(at, words, raw, false, "if "+expression+"}}{{json "+expression+"}}{{else}}null{{end"), true
	}
	if strings.Contains(expression, " ") {
		expression = "(" + expression + ")"
	}
	return l.action(at, words, raw, false, "json "+expression), true
}

func sameJSON(a, b []byte) bool { return len(jsondiff.Between(a, b, nil)) == 0 }

// take sets a part of the draft where it has none yet, and reports whether it is this value.
func take(into *string, value string) bool {
	if *into == "" {
		*into = value
	}
	return *into == value
}

func (l *learner) text(at, name, in, s string, raw []byte) string {
	d := l.draft
	with := func(part, expression string) string { return l.action(at, part, raw, false, "json "+expression) }
	if l.kind == Request {
		path, query, asked := strings.Cut(s, "?")
		switch {
		case slices.Contains(methods, s) && take(&d.method, s):
			return with("method", "@Method")
		case strings.HasPrefix(s, "/") && asked && has(name, "path", "url", "uri", "target") && take(&d.path, path) &&
			take(&d.query, query):
			return with("target", "@Target")
		case strings.HasPrefix(s, "/") && has(name, "path", "url", "uri", "target"):
			if l.first && len(s) > 1 && strings.HasSuffix(d.path, s) { // what it has before is the platform's
				d.path = s
			}
			if take(&d.path, s) {
				return with("path", "@Path")
			}
			if before, ok := strings.CutSuffix(s, d.path); ok && len(d.path) > 1 {
				return with("path", fmt.Sprintf("(print %q @Path)", before))
			}
		case has(name, "query") && take(&d.query, s):
			return with("query", "@RawQuery")
		}
	}
	if l.kind != Object && slices.Contains(dataWords, name) {
		if text, ok := l.data(at, s, raw); ok {
			return text
		}
	}
	if l.kind == Object {
		switch {
		case (has(name, "bucket", "container") || has(in, "bucket", "container") && name == "name") &&
			take(&d.bucket, s):
			return with("bucket", `(at "/bucket" @Data)`)
		case slices.Contains(keyWords, name) && strings.ContainsAny(s, "./") && take(&d.subject, s):
			return with("key", "@Subject")
		case has(name, "contenttype", "mediatype", "mimetype") && take(&d.contentType, s):
			return with("content type", `(at "/content_type" @Data)`)
		case has(name, "size", "length") && pureDigits.MatchString(s):
			d.size = json.Number(s)
			return l.action(at, "size", raw, false, `json (print (at "/size" @Data))`)
		case has(name, "url", "link", "href") && strings.Contains(s, "://") && take(&d.link, s):
			return with("address", `(at "/url" @Data)`)
		}
	}
	for _, layout := range layouts {
		if t, err := time.Parse(layout, s); err == nil && t.Format(layout) == s {
			return l.at(at, raw, t, fmt.Sprintf("json (date %q @Sent)", layout))
		}
	}
	if t, ok := epoch(s); ok && has(name, timeWords...) {
		return l.at(at, raw, t, `json (print (`+since(s)+` @Sent))`)
	}
	if has(name, "partitionkey") && take(&d.partition, s) {
		return with("partition key", `@Attributes.partitionkey`)
	}
	if (strings.HasSuffix(name, "id") || has(name, "uuid")) && idForm.MatchString(s) && !pureDigits.MatchString(s) {
		return l.action(at, "id", raw, !take(&d.id, s), "json @ID")
	}
	if len(s) >= 8 {
		for _, h := range d.header {
			if h.Value == s {
				return with("header "+strings.ToLower(h.Name), fmt.Sprintf("(index @Header %q)",
					strings.ToLower(h.Name)))
			}
		}
	}
	return l.constant(raw)
}

// data returns the action for a text that is the data, or the body, as it is or in base64.
func (l *learner) data(at, s string, raw []byte) (string, bool) {
	part := "data"
	if l.kind == Request {
		part = "body"
	}
	text, expression := []byte(s), "json @Text"
	if coded, err := base64.StdEncoding.DecodeString(s); err == nil && len(s) >= 8 && (json.Valid(coded) ||
		utf8.Valid(coded) && strings.HasSuffix(s, "=")) {
		text, expression = coded, "json (base64 @Text)"
	}
	if l.draft.hasText && !bytes.Equal(l.draft.text, text) {
		return "", false
	}
	l.draft.text, l.draft.hasText = text, true
	return l.action(at, part, raw, false, expression), true
}

// at returns the action for a moment.
func (l *learner) at(at string, raw []byte, t time.Time, expression string) string {
	if l.draft.time.IsZero() {
		l.draft.time = t
	}
	return l.action(at, "time", raw, !l.draft.time.Equal(t), expression)
}

// epoch reads seconds, or milliseconds, since 1970 that are between 2001 and 2100.
func epoch(s string) (t time.Time, ok bool) {
	n, err := strconv.ParseInt(s, 10, 64)
	switch {
	case err != nil:
	case len(s) == 10 && n < 4_102_444_800:
		return time.Unix(n, 0).UTC(), true
	case len(s) == 13 && n < 4_102_444_800_000:
		return time.UnixMilli(n).UTC(), true
	}
	return t, false
}

// since returns the function of templates that writes a time as epoch reads it.
func since(s string) string {
	if len(s) == 13 {
		return "millis"
	}
	return "unix"
}

func (l *learner) number(at, name string, raw []byte) string {
	s := string(raw)
	if l.kind == Object && has(name, "size", "length") && pureDigits.MatchString(s) {
		l.draft.size = json.Number(s)
		return l.action(at, "size", raw, false, `json (at "/size" @Data)`)
	}
	if t, ok := epoch(s); ok && has(name, timeWords...) {
		return l.at(at, raw, t, since(s)+" @Sent")
	}
	return l.constant(raw)
}
