// Package route decides which wire takes an event: of an HTTP request by method,
// path pattern, query and headers, of a change of an object by bucket, action and
// key pattern, of any other event by its attributes. Trials say of each
// condition what it wanted and what it got, for those whose event came nowhere.
package route

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
)

// When is the condition of a wire. The zero value takes every event.
type When struct {
	Method string // "" for any
	Path   Pattern
	Query  []event.Field // a value of "*" wants the parameter present
	Header []event.Field // names compared without case

	Bucket     string        // "" for any
	Key        string        // a glob pattern, in which ** goes over several folders; "" for any
	Action     []string      // nil for any
	Attributes []event.Field // of a CloudEvent; values are glob patterns
}

// Any reports whether the wire takes everything.
func (w *When) Any() bool {
	return w.Method == "" && w.Path.text == "" && w.Bucket == "" && w.Key == "" && len(w.Query)+len(w.Header)+
		len(w.Action)+len(w.Attributes) == 0
}

// Words describes what a wire of a source that is not HTTP takes.
func (w *When) Words() string {
	var out []string
	if w.Bucket != "" {
		out = append(out, "bucket "+w.Bucket)
	}
	if w.Action != nil {
		out = append(out, strings.Join(w.Action, " or "))
	}
	if w.Key != "" {
		out = append(out, "key "+w.Key)
	}
	for _, a := range w.Attributes {
		out = append(out, a.Name+" "+a.Value)
	}
	if out == nil {
		return "everything"
	}
	return strings.Join(out, ", ")
}

// MatchesEvent reports whether an event that is not an HTTP request fulfils every
// condition.
func (w *When) MatchesEvent(e *event.Event) bool {
	return w.Any() || !slices.ContainsFunc(w.TryEvent(e), func(t Trial) bool { return !t.Held })
}

// String names the route, such as "GET /quote/{crossing}?day=*, x-desk: north".
// Secrets are hidden in it.
func (w *When) String() string {
	method, path := w.Method, w.Path.text
	if method == "" {
		method = "any"
	}
	if path == "" {
		path = "/{path...}"
	}
	out, join := method+" "+path, "?"
	for _, q := range w.Query {
		value := url.QueryEscape(q.Value)
		if q.Value == "*" {
			value = "*"
		} else if payload.SecretParameter(q.Name) {
			value = payload.Hidden
		}
		out, join = out+join+url.QueryEscape(q.Name)+"="+value, "&"
	}
	for _, h := range w.Header {
		value := h.Value
		if value != "*" && payload.SecretHeader(h.Name) {
			value = payload.Hidden
		}
		out += ", " + strings.ToLower(h.Name) + ": " + shown(value)
	}
	return out
}

// Matches reports whether the request fulfils every condition.
func (w *When) Matches(r *event.Request) bool {
	if !w.takesMethod(r.Method) {
		return false
	}
	path, query, _ := strings.Cut(r.Target, "?")
	if !w.Path.Matches(path) {
		return false
	}
	if len(w.Query) > 0 {
		values, _ := url.ParseQuery(query) // what can be read of it counts
		for _, q := range w.Query {
			if !hasParameter(values, q) {
				return false
			}
		}
	}
	for _, want := range w.Header {
		if !hasHeader(r.Header, want) {
			return false
		}
	}
	return true
}

// Covers reports whether the condition holds for every request for which another
// does.
func (w *When) Covers(other *When) bool {
	within := func(wants, has []event.Field, same func(a, b string) bool) bool {
		for _, x := range wants {
			if !slices.ContainsFunc(has, func(y event.Field) bool {
				return same(x.Name, y.Name) && (x.Value == "*" ||
					x.Value == y.Value)
			}) {
				return false
			}
		}
		return true
	}
	return (w.Method == "" || w.Method == other.Method) && w.Path.covers(&other.Path) &&
		within(w.Query, other.Query, func(a, b string) bool { return a == b }) && within(w.Header, other.Header,
		strings.EqualFold)
}

// covers reports whether every path that fits another pattern fits this one.
func (p *Pattern) covers(other *Pattern) bool {
	if p.text == "" {
		return true
	}
	if other.text == "" {
		return len(p.segments) == 1 && p.segments[0].rest
	}
	for i, s := range p.segments {
		switch {
		case s.rest:
			return true
		case i >= len(other.segments) || other.segments[i].rest:
			return false
		case s.param:
			if o := other.segments[i]; !o.param && o.literal == "" {
				return false
			}
		case other.segments[i].param || other.segments[i].literal != s.literal:
			return false
		}
	}
	return len(p.segments) == len(other.segments)
}

// takesMethod reports whether a method is taken: whoever takes GET takes HEAD too
// (RFC 9110 §9.1).
func (w *When) takesMethod(method string) bool {
	return w.Method == "" || w.Method == method || w.Method == "GET" && method == "HEAD"
}

func hasParameter(values url.Values, want event.Field) bool {
	got, ok := values[want.Name]
	return ok && (want.Value == "*" || len(got) > 0 && got[0] == want.Value)
}

func hasHeader(header []event.Field, want event.Field) bool {
	for _, h := range header {
		if strings.EqualFold(h.Name, want.Name) && (want.Value == "*" || h.Value == want.Value) {
			return true
		}
	}
	return false
}

// Pattern is a path pattern: literal segments, {name} for one segment, and
// {name...} at the end for all that remains, also nothing.
type Pattern struct {
	text     string
	segments []segment
}

// Text returns the pattern as it was written; "" for one that fits all.
func (p *Pattern) Text() string { return p.text }

// Literal returns the path that the pattern stands for, or "" when it stands for
// several.
func (p *Pattern) Literal() string {
	for _, s := range p.segments {
		if s.param {
			return ""
		}
	}
	return p.text
}

type segment struct {
	literal string
	param   bool
	rest    bool
}

// Parse reads a path pattern.
func Parse(text string) (Pattern, error) {
	if !strings.HasPrefix(text, "/") {
		return Pattern{}, fmt.Errorf("the path %q must begin with /", text)
	}
	p := Pattern{text: text}
	parts := strings.Split(text[1:], "/")
	for i, part := range parts {
		name, isParam := strings.CutPrefix(part, "{")
		if !isParam {
			if strings.ContainsAny(part, "{}") {
				return Pattern{}, fmt.Errorf("in %q: a parameter such as {name} must be a whole segment", text)
			}
			p.segments = append(p.segments, segment{literal: part})
			continue
		}
		name, closed := strings.CutSuffix(name, "}")
		name, rest := strings.CutSuffix(name, "...")
		switch {
		case !closed:
			return Pattern{}, fmt.Errorf("in %q: %q has no closing brace", text, part)
		case name == "":
			return Pattern{}, errors.New("a parameter needs a name, such as {crossing}")
		case strings.ContainsAny(name, "{}"):
			return Pattern{}, fmt.Errorf("in %q: %q is not a parameter name", text, name)
		case rest && i < len(parts)-1:
			return Pattern{}, fmt.Errorf("in %q: {%s...} takes everything that remains, so it must come last", text,
				name)
		}
		p.segments = append(p.segments, segment{param: true, rest: rest})
	}
	return p, nil
}

// Matches reports whether a path fits the pattern. The zero pattern fits all.
func (p *Pattern) Matches(path string) bool {
	if p.text == "" {
		return true
	}
	path = strings.TrimPrefix(path, "/")
	for i, s := range p.segments {
		if s.rest {
			return true
		}
		part, rest, more := strings.Cut(path, "/")
		if s.param && part == "" || !s.param && part != s.literal && !unescapesTo(part, s.literal) {
			return false
		}
		last := i == len(p.segments)-1
		if last {
			return !more
		}
		if !more {
			// only {name...} may stand for nothing
			return i+1 == len(p.segments)-1 && p.segments[i+1].rest
		}
		path = rest
	}
	return false
}

func unescapesTo(part, literal string) bool {
	plain, err := url.PathUnescape(part)
	return err == nil && plain == literal
}
