// Package template writes events in a form of the user's, for functions that expect
// what their platform would send: a Go template over the event. Parse reads the
// template, Body applies it.
package template

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/url"
	"strings"
	"text/template"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/steps"
)

// Shape is a template.
type Shape struct {
	Name string // for people: its file, or "shape"
	Kind string // media type of what it makes; "" for JSON where it is, else text
	t    *steps.Template
}

// Event is what a template sees of an event: of a CloudEvent its attributes and
// data, of an HTTP event the request's parts.
type Event struct {
	ID, Source, Type, Subject string
	Time                      time.Time // zero for none
	Sent                      time.Time // its Time, or the moment of sending where it has none
	ContentType, Schema       string
	Attributes                map[string]string // extension attributes

	Method, Target, Path string // of a request; "" otherwise
	RawQuery             string // what follows the ? in Target
	Query                map[string]string
	Header               map[string]string // names in small letters; several values joined by ", "

	Text string // the data or body as it is
	Data any    // decoded, where it is JSON; nil otherwise

	Events []*Event // all of a batch; of one event, itself
}

// Functions of templates besides Go's own.
var functions = template.FuncMap{
	"json":     func(v any) (string, error) { return encode(v) },
	"base64":   func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"unbase64": func(s string) (string, error) { b, err := base64.StdEncoding.DecodeString(s); return string(b), err },
	"parse":    func(s string) (any, error) { return jsondiff.Decode([]byte(s)) },
	"at": func(pointer string, v any) any {
		x, _ := jsondiff.Lookup(v, pointer) // nil where there is nothing
		return x
	},
	"rfc3339": func(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) },
	"unix":    func(t time.Time) int64 { return t.Unix() },
	"millis":  func(t time.Time) int64 { return t.UnixMilli() },
	"date":    func(layout string, t time.Time) string { return t.Format(layout) },
	"upper":   strings.ToUpper, "lower": strings.ToLower,
	"canonical": func(m map[string]string) map[string]string { // names of headers as they are usually written
		out := make(map[string]string, len(m))
		for name, value := range m {
			out[canonical(name)] = value
		}
		return out
	},
	"lists": func(m map[string]string) map[string][]string { // each value as a list of one
		out := make(map[string][]string, len(m))
		for name, value := range m {
			out[name] = []string{value}
		}
		return out
	},
	"or_else": func(otherwise, v any) any {
		if v == nil || v == "" {
			return otherwise
		}
		return v
	},
}

// canonical returns the name of a header as it is usually written: Content-Type.
func canonical(name string) string {
	b, upper := []byte(strings.ToLower(name)), true
	for i, c := range b {
		if upper && 'a' <= c && c <= 'z' {
			b[i] -= 'a' - 'A'
		}
		upper = c == '-'
	}
	return string(b)
}

func encode(v any) (string, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return strings.TrimRight(b.String(), "\n"), err
}

// Parse reads a template.
func Parse(name, text, kind string) (*Shape, error) {
	t, err := steps.Parse(template.New(name).Option("missingkey=zero").Funcs(functions), text)
	if err != nil {
		return nil, errors.New(strings.TrimPrefix(err.Error(), "template: "))
	}
	return &Shape{name, kind, t}, nil
}

// Body returns what the function gets of events that are sent now, and its media type. It asks stop, now and
// then, whether to go on; nil is for always.
func (s *Shape) Body(events []*event.Event, now time.Time, stop func() error) (body []byte, kind string, err error) {
	var all []*Event
	for _, e := range events {
		x := ofEvent(e)
		if x.Sent = x.Time; x.Time.IsZero() {
			x.Sent = now
		}
		all = append(all, x)
	}
	return s.execute(all, stop)
}

// RequestBody returns what the function gets of a request that is sent now, as Body does. A request has no id:
// what the template writes of one is given.
func (s *Shape) RequestBody(r *event.Request, id string, now time.Time, stop func() error) (body []byte, kind string,
	err error) {
	x := ofRequest(r)
	x.ID, x.Sent = id, now
	return s.execute([]*Event{x}, stop)
}

func (s *Shape) execute(all []*Event, stop func() error) (body []byte, kind string, err error) {
	first := *all[0]
	first.Events = all
	if body, err = s.t.Execute(&first, stop); err != nil {
		return nil, "", errors.New(strings.TrimPrefix(err.Error(), "template: "))
	}
	if kind = s.Kind; kind == "" {
		if kind = "text/plain; charset=utf-8"; json.Valid(body) {
			kind = "application/json"
		}
	}
	return body, kind, nil
}

func decoded(b []byte) any {
	if !utf8.Valid(b) {
		return nil
	}
	v, _ := jsondiff.Decode(b) // nil where it is not JSON
	return v
}

func ofEvent(e *event.Event) *Event {
	x := &Event{ID: e.ID, Source: e.Source, Type: e.Type, Subject: e.Subject, Time: e.Time,
		ContentType: e.DataContentType, Schema: e.DataSchema,
		Attributes: map[string]string{}, Text: string(e.Data), Data: decoded(e.Data)}
	for _, f := range e.Extensions {
		x.Attributes[f.Name] = f.Value
	}
	return x
}

func ofRequest(r *event.Request) *Event {
	x := &Event{Method: r.Method, Target: r.Target, Query: map[string]string{}, Header: map[string]string{},
		Text: string(r.Body), Data: decoded(r.Body)}
	path, query, _ := strings.Cut(r.Target, "?")
	x.Path, x.RawQuery = path, query
	if values, err := url.ParseQuery(query); err == nil {
		for name := range values {
			x.Query[name] = values.Get(name)
		}
	}
	for _, h := range r.Header {
		name := strings.ToLower(h.Name)
		if before, ok := x.Header[name]; ok {
			x.Header[name] = before + ", " + h.Value
		} else {
			x.Header[name] = h.Value
		}
		if name == "content-type" {
			x.ContentType = h.Value
		}
	}
	return x
}
