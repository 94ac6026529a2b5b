// Package payload holds payload sets: what is sent to sources. A set comes from a
// recording (scan.go): CloudEvents, HTTP requests, bare JSON or an access log; or
// it is made from a schema (made.go). All readers give every record that can be
// read and an error with its place for each that cannot; whether the rest is used
// is the caller's decision.
package payload

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
)

// Set is a named list of payloads.
type Set struct {
	Name     string
	Origin   string // the recording, as the project names it
	Payloads []Payload
	Reaches  []string           // the sources that it is for; nil where the project does not say
	Expect   *Expect            // of every reply; nil for nothing
	Fits     *jsonschema.Schema // that the data is to fit; nil for none
	FitsName string
	Maker    *Maker // of a set that is made; nil for a recording
}

// Maker makes the payloads of a set. It is for one goroutine at a time.
type Maker struct {
	Mode    string // one of Modes
	Seed    uint64
	Outline []generate.Member // what the schema says of the data; nil where it has no one schema
	// Make returns payload n of a seed, from 0, and what it breaks.
	Make func(mode string, seed, n uint64) (p Payload, breaks string, err error)
}

// Payload is one event to be sent: either Event or Request is set.
type Payload struct {
	Event   *event.Event
	Request *event.Request
	Time    time.Time // when it was recorded; zero when the recording has no times
	Reply   *Reply    // of a request, where the recording has it
	Expect  *Expect   // of its reply alone; nil for what its set says
	Call    *Call     // of a request: how it went; nil where the recording does not say
}

// Call is what a HAR archive says of a request beside its reply.
type Call struct {
	Wait, Receive time.Duration // to the first byte of the reply, and from there to its last
	Of            string        // of a call to an upstream: the event for which the function made it; "" if unknown
	Failed        string        // how the connection ended where there was no reply; "" where there was one
}

// Reply is what was answered when a request was recorded.
type Reply struct {
	Status int
	Header []event.Field
	Body   []byte
}

// Short returns a payload whose data is cut off after so many bytes; the payload itself where
// it has no more.
func (p *Payload) Short(most int) *Payload {
	if p == nil || len(p.Data()) <= most {
		return p
	}
	short := *p
	if p.Request != nil {
		r := *p.Request
		r.Body = slices.Clone(r.Body[:most])
		short.Request = &r
		return &short
	}
	e := *p.Event
	e.Data = slices.Clone(e.Data[:most])
	short.Event = &e
	return &short
}

// Label names the payload in a few words: its event type and id, of an object its
// key, or its request line.
func (p *Payload) Label() string {
	if p.Request != nil {
		return p.Request.Method + " " + ShownTarget(p.Request.Target)
	}
	if strings.HasPrefix(p.Event.Type, event.ObjectType) && p.Event.Subject != "" {
		return p.Event.Type + " " + p.Event.Subject
	}
	return p.Event.Type + " " + p.Event.ID
}

// Async reports whether a request asks not to wait for the answer (Prefer:
// respond-async, RFC 7240 §4.1).
func (p *Payload) Async() bool {
	if p.Request == nil {
		return false
	}
	for _, h := range p.Request.Header {
		if !strings.EqualFold(h.Name, "prefer") {
			continue
		}
		for _, preference := range strings.Split(h.Value, ",") {
			if name, _, _ := strings.Cut(preference, ";"); strings.EqualFold(strings.TrimSpace(name), "respond-async") {
				return true
			}
		}
	}
	return false
}

// Data returns the event's data, or the request's body.
func (p *Payload) Data() []byte {
	if p.Request != nil {
		return p.Request.Body
	}
	return p.Event.Data
}

// Size returns the bytes of the payload's data or body.
func (p *Payload) Size() int { return len(p.Data()) }

// Offsets returns each payload's time relative to the earliest of the set. ok is
// false when a payload has no time; missing is the index of the first such.
func (s *Set) Offsets() (offsets []time.Duration, missing int, ok bool) {
	if len(s.Payloads) == 0 {
		return nil, 0, true
	}
	first := s.Payloads[0].Time
	for i, p := range s.Payloads {
		if p.Time.IsZero() {
			return nil, i, false
		}
		if p.Time.Before(first) {
			first = p.Time
		}
	}
	offsets = make([]time.Duration, len(s.Payloads))
	for i, p := range s.Payloads {
		offsets[i] = p.Time.Sub(first)
	}
	return offsets, 0, true
}

// Mistake is a record that could not be read.
type Mistake struct {
	Line   int // from 1; 0 when the place is not a line
	Column int // from 1; 0 when unknown
	Text   string
}

// position returns line and column, from 1, of a byte.
func position(content []byte, offset int) (line, column int) {
	before := content[:min(offset, len(content))]
	line = bytes.Count(before, []byte("\n")) + 1
	return line, len(before) - (bytes.LastIndexByte(before, '\n') + 1) + 1
}

// headers that belong to the recorded connection, not to the request
// (RFC 9110 §7.6.1, and pseudo-headers of HTTP/2, RFC 9113 §8.3)
var ofConnection = []string{"connection", "keep-alive", "proxy-connection", "transfer-encoding", "te", "upgrade",
	"content-length", "trailer", "expect"}

func (e *harEntry) payload() (Payload, error) {
	if e.Request.Method == "" || !isToken(e.Request.Method) {
		return Payload{}, fmt.Errorf("request.method %q is not an HTTP method", e.Request.Method)
	}
	u, err := url.Parse(e.Request.URL)
	if err != nil || e.Request.URL == "" {
		return Payload{}, fmt.Errorf("request.url %q is not a URL", e.Request.URL)
	}
	r := &event.Request{Method: e.Request.Method, Target: u.RequestURI()}
	for _, h := range e.Request.Headers {
		name := strings.ToLower(h.Name)
		if strings.HasPrefix(name, ":") || slices.Contains(ofConnection, name) {
			continue
		}
		if !isToken(h.Name) || strings.ContainsAny(h.Value, "\r\n\x00") {
			return Payload{}, fmt.Errorf("request.headers: %q is not a header", h.Name)
		}
		r.Header = append(r.Header, h)
	}
	if d := e.Request.PostData; d != nil {
		switch {
		case d.Encoding == "base64":
			if r.Body, err = base64.StdEncoding.DecodeString(d.Text); err != nil {
				return Payload{}, fmt.Errorf("request.postData.text: %w", err)
			}
		case d.Text == "" && len(d.Params) > 0:
			form := url.Values{}
			for _, p := range d.Params {
				form.Add(p.Name, p.Value)
			}
			r.Body = []byte(form.Encode())
		default:
			r.Body = []byte(d.Text)
		}
	}
	p := Payload{Request: r}
	if e.Response.Status > 0 {
		p.Reply = &Reply{Status: e.Response.Status, Header: e.Response.Headers, Body: []byte(e.Response.Content.Text)}
		if e.Response.Content.Encoding == "base64" {
			if p.Reply.Body, err = base64.StdEncoding.DecodeString(e.Response.Content.Text); err != nil {
				return Payload{}, fmt.Errorf("response.content.text: %w", err)
			}
		}
	}
	p.Call = &Call{Wait: harDuration(e.Timings.Wait), Receive: harDuration(e.Timings.Receive), Of: e.Of,
		Failed: e.Failed}
	if e.Started != "" {
		if p.Time, err = time.Parse(time.RFC3339Nano, e.Started); err != nil {
			return Payload{}, fmt.Errorf("startedDateTime %q is not an ISO 8601 time", e.Started)
		}
		if p.Time.Unix() == 0 { // made, not recorded
			p.Time = time.Time{}
		}
	}
	return p, nil
}

// harDuration returns a time of an archive, in milliseconds there; -1 stands for none.
func harDuration(ms float64) time.Duration {
	return time.Duration(max(0, min(ms, float64(mostWait/time.Millisecond))) * 1e6)
}

// mostWait bounds the times of an archive.
const mostWait = time.Hour

// isToken reports whether s is a token (RFC 9110 §5.6.2).
func isToken(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
			strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			return false
		}
	}
	return s != ""
}
