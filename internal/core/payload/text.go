package payload

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"text/template"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/steps"
)

// A payload that is kept by itself is a text that people edit: a request as it
// stands on the wire (RFC 9112: request line, headers, an empty line, the body),
// or an event as its JSON. Actions of Go templates in it are filled in at each
// firing.

// Text returns a payload as such a text. What would be read as an action is
// written so that it comes out as it is.
func (p *Payload) Text() []byte {
	if p.Request != nil {
		return quoteActions(requestText(p.Request))
	}
	var b bytes.Buffer
	_ = json.Indent(&b, p.Event.AppendJSON(nil), "", "  ") // what was written is JSON
	return quoteActions(append(b.Bytes(), '\n'))
}

func quoteActions(text []byte) []byte {
	return bytes.ReplaceAll(text, []byte("{{"), []byte(`{{"{{"}}`))
}

func requestText(r *event.Request) []byte {
	b := fmt.Appendf(nil, "%s %s HTTP/1.1\n", r.Method, r.Target)
	for _, h := range r.Header {
		b = fmt.Appendf(b, "%s: %s\n", h.Name, h.Value)
	}
	return append(append(b, '\n'), r.Body...)
}

// Blank returns the text of a new payload, to be filled in by its user.
func Blank(http bool) []byte {
	if http {
		return []byte("GET / HTTP/1.1\nAccept: application/json\n\n")
	}
	return []byte(`{
  "specversion": "1.0",
  "id": "{{uuid}}",
  "source": "/hand",
  "type": "made.by.hand",
  "time": "{{now}}",
  "datacontenttype": "application/json",
  "data": {}
}
`)
}

// Values are what the actions of a text stand for at one firing.
type Values struct {
	Now     time.Time
	Counter int    // {{counter}}: how many times it was fired, from 1
	Seed    uint64 // of {{random}} and {{pick}}
	UUID    func() string
}

// Fill fills the actions of a text in: {{now}} (RFC 3339), {{date}}, {{unix}},
// {{uuid}}, {{counter}}, {{random 1 100}} and {{pick "a" "b"}}.
func Fill(text []byte, v Values) ([]byte, error) {
	if !bytes.Contains(text, []byte("{{")) {
		return text, nil
	}
	r := rng.New(v.Seed, uint64(v.Counter))
	t, err := steps.Parse(template.New("").Option("missingkey=error").Funcs(template.FuncMap{
		"now":     func() string { return v.Now.UTC().Format(time.RFC3339Nano) },
		"date":    func() string { return v.Now.Format(time.DateOnly) },
		"unix":    func() int64 { return v.Now.Unix() },
		"uuid":    v.UUID,
		"counter": func() int { return v.Counter },
		"random": func(lo, hi int) (int, error) {
			if hi < lo {
				return 0, fmt.Errorf("random %d %d: the second must not be less than the first", lo, hi)
			}
			return lo + r.Below(hi-lo+1), nil
		},
		"pick": func(of ...any) (any, error) {
			if len(of) == 0 {
				return nil, errors.New("pick needs at least one argument")
			}
			return of[r.Below(len(of))], nil
		},
	}), string(text))
	if err != nil {
		return nil, cleaned(err)
	}
	out, err := t.Execute(nil, nil)
	if err != nil {
		return nil, cleaned(err)
	}
	return out, nil
}

// cleaned takes the template's empty name out of its errors.
func cleaned(err error) error {
	text := strings.ReplaceAll(err.Error(), "template: :", "line ")
	if _, rest, ok := strings.Cut(text, `executing "" at `); ok {
		text = rest
	}
	return errors.New("in an action: " + text)
}

// ParseText reads the text of a payload, its actions filled in.
func ParseText(text []byte, http bool) (Payload, error) {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	if http {
		r, err := parseRequest(text)
		return Payload{Request: r}, err
	}
	e, err := event.Parse(text)
	if err != nil {
		var syntax *json.SyntaxError
		if probe := json.Unmarshal(text, new(any)); errors.As(probe, &syntax) {
			line, column := position(text, max(int(syntax.Offset)-1, 0))
			return Payload{}, fmt.Errorf("line %d, column %d: not valid JSON: %s", line, column, syntax)
		}
		return Payload{}, err
	}
	return Payload{Event: &e, Time: e.Time}, nil
}

// parseRequest reads a request as it stands on the wire, lines ended by LF or CRLF.
func parseRequest(text []byte) (*event.Request, error) {
	line, rest, _ := bytes.Cut(text, []byte("\n"))
	words := strings.Fields(string(line))
	if len(words) == 3 && strings.HasPrefix(words[2], "HTTP/") {
		words = words[:2]
	}
	if len(words) != 2 {
		return nil, fmt.Errorf("line 1: %q is not a request line, such as GET /quote/skerry-holm HTTP/1.1",
			strings.TrimSpace(string(line)))
	}
	r := &event.Request{Method: words[0], Target: words[1]}
	if !isToken(r.Method) || r.Method != strings.ToUpper(r.Method) {
		return nil, fmt.Errorf("line 1: %q is not an HTTP method", r.Method)
	}
	if strings.Contains(r.Target, "://") {
		u, err := url.Parse(r.Target)
		if err != nil {
			return nil, fmt.Errorf("line 1: %q is not a URL", r.Target)
		}
		r.Target = u.RequestURI()
	}
	if !strings.HasPrefix(r.Target, "/") && r.Target != "*" {
		return nil, fmt.Errorf("line 1: the target %q must begin with /", r.Target)
	}
	for n := 2; len(rest) > 0; n++ {
		line, rest, _ = bytes.Cut(rest, []byte("\n"))
		h := strings.TrimRight(string(line), "\r")
		if strings.TrimSpace(h) == "" {
			break
		}
		name, value, ok := strings.Cut(h, ":")
		if !ok || !isToken(name) || strings.ContainsAny(value, "\r\x00") {
			return nil, fmt.Errorf("line %d: %q is not a header, such as Accept: application/json; an empty line "+
				"ends the headers", n, h)
		}
		if !slices.Contains(ofConnection, strings.ToLower(name)) {
			r.Header = append(r.Header, event.Field{Name: name, Value: strings.TrimSpace(value)})
		}
	}
	if len(rest) > 0 {
		r.Body = rest
	}
	return r, nil
}

// Curl returns a request as a command line, for a POSIX shell.
func Curl(base string, r *event.Request) string {
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
	b := "curl -i"
	if r.Method != "GET" {
		b += " -X " + r.Method
	}
	for _, h := range r.Header {
		if !strings.EqualFold(h.Name, "host") {
			b += " -H " + quote(h.Name+": "+h.Value)
		}
	}
	switch {
	case len(r.Body) == 0:
	case utf8.Valid(r.Body) && !bytes.ContainsRune(r.Body, 0):
		b += " --data-binary " + quote(string(r.Body))
	default:
		b += " --data-binary @FILE" // the body is not text: it goes by a file
	}
	return b + " " + quote(base+r.Target)
}
