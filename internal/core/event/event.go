// Package event is the event model: CloudEvents 1.0 events and HTTP requests, and the forms in
// which they travel: the JSON format (structured mode), the JSON batch format, and the headers of
// the HTTP binding's binary mode.
//
// Parse parses one event from its JSON form; AppendJSON writes it back; Headers returns what binary
// mode puts beside the data. Moving the bytes is left to other packages.
package event

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Media types of the CloudEvents formats (CloudEvents HTTP binding 1.0.2, §3).
const (
	StructuredType = "application/cloudevents+json"
	BatchType      = "application/cloudevents-batch+json"
)

// Field is a named value: an extension attribute, or an HTTP header.
type Field struct {
	Name, Value string
	Bare        bool // the value is a number or a boolean in JSON
}

// Event is a CloudEvents 1.0 event. Data is what the function receives as the body in binary mode.
type Event struct {
	ID, Source, Type string
	Subject          string
	Time             time.Time // zero when the event has none
	DataContentType  string
	DataSchema       string
	Extensions       []Field // sorted by name
	Data             []byte  // nil when the event has none
	Binary           bool    // Data is written as data_base64 in JSON
}

// Parse parses one event in the JSON format (CloudEvents JSON format 1.0.2, §3). The error names
// the attribute that is wrong.
func Parse(text []byte) (Event, error) {
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return Event{}, describeJSON(text, err)
	}
	if raw == nil {
		return Event{}, errors.New("expected a CloudEvents object, got null")
	}
	var e Event
	var version string
	for _, name := range sortedKeys(raw) {
		value := raw[name]
		switch {
		case name == "data" || name == "data_base64":
		case bytes.Equal(value, []byte("null")): // as if absent (§2.2)
		case name == "specversion" || name == "time" || e.field(name) != nil:
			s, err := unquote(value)
			if err != nil {
				return Event{}, fmt.Errorf("%s: %w", name, err)
			}
			if name == "specversion" {
				version = s
			} else if err := e.SetAttribute(name, s); err != nil {
				return Event{}, err
			}
		default:
			f, err := extension(name, value)
			if err != nil {
				return Event{}, err
			}
			e.Extensions = append(e.Extensions, f)
		}
	}
	if name := e.Missing(); name != "" {
		return Event{}, fmt.Errorf("the required attribute %q is missing or empty", name)
	}
	if version != "1.0" {
		return Event{}, fmt.Errorf("specversion is %q, expected \"1.0\"", version)
	}
	return e, e.takeData(raw)
}

func (e *Event) takeData(raw map[string]json.RawMessage) error {
	data, has := raw["data"]
	if coded, ok := raw["data_base64"]; ok && !bytes.Equal(coded, []byte("null")) {
		if has {
			return errors.New("data and data_base64 are both given")
		}
		var s string
		if err := json.Unmarshal(coded, &s); err != nil {
			return errors.New("data_base64 is not a string")
		}
		b, err := base64.StdEncoding.DecodeString(s)
		if err != nil {
			return fmt.Errorf("data_base64: %w", err)
		}
		e.Data, e.Binary = b, true
		return nil
	}
	if !has || bytes.Equal(data, []byte("null")) {
		return nil
	}
	if !IsJSON(e.DataContentType) {
		// a string that is the content itself (§3.1)
		var s string
		if err := json.Unmarshal(data, &s); err == nil {
			e.Data = []byte(s)
			return nil
		}
	}
	var b bytes.Buffer
	if err := json.Compact(&b, data); err != nil {
		return err
	}
	e.Data = b.Bytes()
	return nil
}

// IsJSON reports whether a media type is JSON; an absent one is, by the standard.
func IsJSON(mediaType string) bool {
	if mediaType == "" {
		return true
	}
	base, _, err := mime.ParseMediaType(mediaType)
	return err == nil && (base == "application/json" || base == "text/json" || strings.HasSuffix(base, "+json"))
}

// AttributeName reports whether an attribute may have a name (CloudEvents §3.1).
func AttributeName(name string) bool {
	for _, r := range name {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') {
			return false
		}
	}
	return name != ""
}

func extension(name string, value json.RawMessage) (Field, error) {
	if !AttributeName(name) {
		return Field{}, fmt.Errorf("attribute %q: names consist of a-z and 0-9 (CloudEvents §3.1)", name)
	}
	switch value[0] {
	case '"':
		s, err := unquote(value)
		return Field{Name: name, Value: s}, err
	case '{', '[':
		return Field{}, fmt.Errorf("attribute %q is an object or a list; attributes must be plain values", name)
	}
	return Field{Name: name, Value: string(value), Bare: true}, nil
}

func unquote(value json.RawMessage) (string, error) {
	var s string
	if err := json.Unmarshal(value, &s); err != nil {
		return "", fmt.Errorf("%s is not a string", value)
	}
	return s, nil
}

func describeJSON(text []byte, err error) error {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Errorf("not valid JSON at byte %d: %s", syntax.Offset, strings.TrimPrefix(syntax.Error(), "json: "))
	}
	if !utf8.Valid(text) {
		return errors.New("not valid UTF-8")
	}
	return errors.New("not a JSON object")
}

func sortedKeys(m map[string]json.RawMessage) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// AppendJSON appends the event in the JSON format.
func (e *Event) AppendJSON(b []byte) []byte {
	return e.AppendAs(b, !e.Binary && e.Data != nil && IsJSON(e.DataContentType) && json.Valid(e.Data))
}

// AppendAs is AppendJSON where it is known whether the data is to be written as JSON, of a type that is, or as text.
func (e *Event) AppendAs(b []byte, asJSON bool) []byte {
	b = append(b, `{"specversion":"1.0"`...)
	put := func(name, value string) {
		if value != "" {
			b = append(b, ',', '"')
			b = append(b, name...)
			b = append(b, '"', ':')
			b = AppendString(b, value)
		}
	}
	e.context(put)
	put("datacontenttype", e.DataContentType)
	put("dataschema", e.DataSchema)
	for _, x := range e.Extensions {
		if x.Bare { // integers and booleans keep their type (JSON format §2.2)
			b = append(append(append(append(b, ',', '"'), x.Name...), '"', ':'), x.Value...)
			continue
		}
		put(x.Name, x.Value)
	}
	switch {
	case e.Data == nil:
	case e.Binary:
		put("data_base64", base64.StdEncoding.EncodeToString(e.Data))
	case asJSON:
		b = append(b, `,"data":`...)
		b = append(b, e.Data...)
	default:
		b = append(b, `,"data":`...)
		b = AppendString(b, string(e.Data))
	}
	return append(b, '}')
}

// context passes the attributes that every form writes first to put, in a fixed order.
func (e *Event) context(put func(name, value string)) {
	put("id", e.ID)
	put("source", e.Source)
	put("type", e.Type)
	put("subject", e.Subject)
	if !e.Time.IsZero() {
		put("time", e.Time.Format(time.RFC3339Nano))
	}
}

// AppendString appends a string as JSON.
func AppendString(b []byte, s string) []byte {
	plain := true
	for i := range len(s) {
		c := s[i]
		plain = plain && c >= 0x20 && c < 0x7f && c != '"' && c != '\\'
	}
	if plain {
		return append(append(append(b, '"'), s...), '"')
	}
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // a string always encodes
	return append(b, bytes.TrimRight(buf.Bytes(), "\n")...)
}

// AppendBatch appends the events as a JSON array (CloudEvents JSON format §4).
func AppendBatch(b []byte, events []*Event) []byte {
	b = append(b, '[')
	for i, e := range events {
		if i > 0 {
			b = append(b, ',')
		}
		b = e.AppendJSON(b)
	}
	return append(b, ']')
}

// Headers returns the attributes as the headers of binary mode, in a fixed
// order, values percent-encoded where they must be (CloudEvents HTTP binding
// 1.0.2, §3.1.3).
func (e *Event) Headers() []Field {
	h := []Field{{Name: "ce-specversion", Value: "1.0"}}
	put := func(name, value string) {
		if value != "" {
			h = append(h, Field{Name: "ce-" + name, Value: percentEncode(value)})
		}
	}
	e.context(put)
	put("dataschema", e.DataSchema)
	for _, x := range e.Extensions {
		put(x.Name, x.Value)
	}
	kind := e.DataContentType
	if kind == "" && e.Data != nil && !e.Binary {
		kind = "application/json"
	}
	if kind != "" {
		h = append(h, Field{Name: "content-type", Value: kind})
	}
	return h
}

// percentEncode encodes what §3.1.3.2 requires: everything outside printable ASCII, and space,
// double quote and percent.
func percentEncode(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if c := s[i]; c <= 0x20 || c >= 0x7f || c == '"' || c == '%' {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Request is an HTTP event: the request itself.
type Request struct {
	Method string
	Target string // path and query, as in the request line
	Header []Field
	Body   []byte
}

// HeaderValue returns the value of the first header with a name, whatever its case; "" if there is
// none.
func (r *Request) HeaderValue(name string) string { return Value(r.Header, name) }

// Value returns the value of the first field with a name, whatever its case; "" if there is none.
func Value(fields []Field, name string) string {
	for _, f := range fields {
		if strings.EqualFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}
