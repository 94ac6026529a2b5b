// Package payload holds payload sets: what is sent to sources. A set comes
// from a recording: CloudEvents as JSON lines or as a JSON batch, or HTTP requests
// from a HAR 1.2 archive. All readers give every record that can be read and a mistake with
// its place for each that cannot; whether the rest is used is the caller's
// decision.
package payload

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"nightdrill/internal/core/event"
)

// Set is a named list of payloads.
type Set struct {
	Name     string
	Origin   string // the recording, as the project names it
	Payloads []Payload
	Expect   *Expect // of every reply; nil for nothing
}

// Payload is one event to be sent: either Event or Request is set.
type Payload struct {
	Event   *event.Event
	Request *event.Request
	Time    time.Time // when it was recorded; zero when the recording has no times
}

// Label names the payload in a few words: its event type and id, or its request line.
func (p *Payload) Label() string {
	if p.Request != nil {
		return p.Request.Method + " " + p.Request.Target
	}
	return p.Event.Type + " " + p.Event.ID
}

// Size gives the bytes of the payload's data or body.
func (p *Payload) Size() int {
	if p.Request != nil {
		return len(p.Request.Body)
	}
	return len(p.Event.Data)
}

// Offsets gives each payload's time relative to the earliest of the set. ok is
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

// Read reads a recording, its kind recognised from its content. The mistakes
// are in the order of their places; the payloads are those that could be read.
func Read(content []byte) ([]Payload, []Mistake) {
	content = bytes.TrimPrefix(content, []byte("\xef\xbb\xbf")) // a byte order mark
	if len(bytes.TrimSpace(content)) == 0 {
		return nil, []Mistake{{Line: 1, Text: "the recording is empty; wanted CloudEvents, one JSON object a line or a JSON batch, or a HAR 1.2 archive"}}
	}
	switch {
	case looksLikeHAR(content):
		return readHAR(content)
	case looksLikeRequest(content):
		return readOne(content, true)
	case bytes.HasPrefix(content, []byte("{")) && json.Valid(content) && bytes.Contains(bytes.TrimSpace(content), []byte("\n")):
		return readOne(content, false)
	case bytes.HasPrefix(bytes.TrimSpace(content), []byte("[")):
		return readBatch(content)
	}
	return readLines(content)
}

// looksLikeHAR: one JSON object whose first key is "log".
func looksLikeHAR(content []byte) bool {
	dec := json.NewDecoder(bytes.NewReader(content))
	open, err := dec.Token()
	if err != nil || open != json.Delim('{') {
		return false
	}
	key, err := dec.Token()
	return err == nil && key == "log"
}

// looksLikeRequest: the first line is a request line (RFC 9112 §3).
func looksLikeRequest(content []byte) bool {
	line, _, _ := bytes.Cut(content, []byte("\n"))
	words := strings.Fields(string(line))
	return len(words) == 3 && isToken(words[0]) && strings.HasPrefix(words[2], "HTTP/")
}

// readOne reads a single request or event, as it is saved by itself.
func readOne(content []byte, http bool) ([]Payload, []Mistake) {
	p, err := ParseText(content, http)
	if err != nil {
		return nil, []Mistake{{Line: 1, Text: err.Error()}}
	}
	return []Payload{p}, nil
}

func readLines(content []byte) (payloads []Payload, mistakes []Mistake) {
	for n := 1; len(content) > 0; n++ {
		var line []byte
		line, content, _ = bytes.Cut(content, []byte("\n"))
		line = bytes.TrimSpace(line)
		if len(line) == 0 {
			continue
		}
		e, err := event.Parse(line)
		if err != nil {
			mistakes = append(mistakes, Mistake{Line: n, Text: err.Error()})
			continue
		}
		payloads = append(payloads, Payload{Event: &e, Time: e.Time})
	}
	return payloads, mistakes
}

// readBatch reads the JSON batch format (CloudEvents JSON format §4).
func readBatch(content []byte) (payloads []Payload, mistakes []Mistake) {
	var elements []json.RawMessage
	if err := json.Unmarshal(content, &elements); err != nil {
		m := mistakeAt(content, err)
		m.Text = strings.Replace(m.Text, "not a HAR 1.2 archive", "not a JSON batch of CloudEvents", 1)
		return nil, []Mistake{m}
	}
	if len(elements) == 0 {
		return nil, []Mistake{{Line: 1, Column: 1, Text: "the batch is empty"}}
	}
	place := 0
	for i, text := range elements {
		place += max(bytes.Index(content[place:], text), 0) // they stand in their order, byte for byte
		e, err := event.Parse(text)
		if err != nil {
			line, column := position(content, place)
			mistakes = append(mistakes, Mistake{line, column, fmt.Sprintf("event %d of the batch: %v", i+1, err)})
		} else {
			payloads = append(payloads, Payload{Event: &e, Time: e.Time})
		}
		place += len(text)
	}
	return payloads, mistakes
}

// The parts of HAR 1.2 that a replay needs.
type harFile struct {
	Log struct {
		Version string            `json:"version"`
		Entries []json.RawMessage `json:"entries"`
	} `json:"log"`
}

type harEntry struct {
	Started string `json:"startedDateTime"`
	Request struct {
		Method  string `json:"method"`
		URL     string `json:"url"`
		Headers []struct {
			Name  string `json:"name"`
			Value string `json:"value"`
		} `json:"headers"`
		PostData *struct {
			MimeType string `json:"mimeType"`
			Text     string `json:"text"`
			Encoding string `json:"encoding"`
			Params   []struct {
				Name  string `json:"name"`
				Value string `json:"value"`
			} `json:"params"`
		} `json:"postData"`
	} `json:"request"`
}

func readHAR(content []byte) (payloads []Payload, mistakes []Mistake) {
	var file harFile
	if err := json.Unmarshal(content, &file); err != nil {
		return nil, []Mistake{mistakeAt(content, err)}
	}
	if len(file.Log.Entries) == 0 {
		return nil, []Mistake{{Line: 1, Text: "the HAR archive has no log.entries"}}
	}
	place := 0
	for i, text := range file.Log.Entries {
		p, err := harPayload(text)
		if err != nil {
			// entries stand in the file in their order, byte for byte
			if at := bytes.Index(content[place:], text); at >= 0 {
				place += at
			}
			line, column := position(content, place)
			mistakes = append(mistakes, Mistake{line, column, fmt.Sprintf("log.entries[%d]: %v", i, err)})
			continue
		}
		payloads = append(payloads, p)
	}
	return payloads, mistakes
}

func mistakeAt(content []byte, err error) Mistake {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	offset, text := int64(0), strings.TrimPrefix(err.Error(), "json: ")
	switch {
	case errors.As(err, &syntax):
		offset = syntax.Offset
	case errors.As(err, &kind):
		offset, text = kind.Offset, fmt.Sprintf("%s is a %s, which does not belong there", kind.Field, kind.Value)
	}
	line, column := position(content, int(offset))
	return Mistake{line, column, "not a HAR 1.2 archive: " + text}
}

// position gives line and column, from 1, of a byte.
func position(content []byte, offset int) (line, column int) {
	before := content[:min(offset, len(content))]
	line = bytes.Count(before, []byte("\n")) + 1
	return line, len(before) - (bytes.LastIndexByte(before, '\n') + 1) + 1
}

// headers that belong to the recorded connection, not to the request
// (RFC 9110 §7.6.1, and pseudo-headers of HTTP/2, RFC 9113 §8.3)
var ofConnection = []string{"connection", "keep-alive", "proxy-connection", "transfer-encoding", "te", "upgrade", "content-length", "trailer", "expect"}

func harPayload(text json.RawMessage) (Payload, error) {
	var e harEntry
	if err := json.Unmarshal(text, &e); err != nil {
		return Payload{}, errors.New(strings.TrimPrefix(err.Error(), "json: "))
	}
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
		r.Header = append(r.Header, event.Field{Name: h.Name, Value: h.Value})
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
	if e.Started != "" {
		if p.Time, err = time.Parse(time.RFC3339Nano, e.Started); err != nil {
			return Payload{}, fmt.Errorf("startedDateTime %q is not an ISO 8601 time", e.Started)
		}
	}
	return p, nil
}

// isToken tells whether s is a token (RFC 9110 §5.6.2).
func isToken(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0) {
			return false
		}
	}
	return s != ""
}
