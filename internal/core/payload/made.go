package payload

import (
	"fmt"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/jsondiff"
)

// Modes are what can be made from a schema.
var Modes = []string{"valid", "edges", "broken"}

// Made describes how data is made from a schema and what happens to it: an event, or the body of an
// HTTP request where there is a method.
type Made struct {
	Set, Type      string
	Method, Target string
	Mode           string // one of Modes
	Body           string // one of Bodies; "" for JSON
}

// Make returns payload n of a seed; for broken ones, breaks says which keyword is
// violated where.
func (m *Made) Make(g *generate.Generator, seed, n uint64) (data []byte, breaks string, err error) {
	switch m.Mode {
	case "edges":
		data, err = g.Edge(seed, n)
	case "broken":
		return m.broken(g, seed, n)
	default:
		data, err = g.Make(seed, n)
	}
	return data, breaks, err
}

// attempts is how often a broken payload is made anew that is not broken in its form.
const attempts = 60

// broken makes a broken payload that is broken as it is sent: in a form without types, 5 is
// read as a number also where it was a text.
func (m *Made) broken(g *generate.Generator, seed, n uint64) (data []byte, breaks string, err error) {
	for attempt := range uint64(attempts) {
		b, ok := g.Break(seed^attempt*0x9e3779b97f4a7c15, n)
		if !ok {
			return nil, "", &generate.Refused{Text: "nothing in it can be violated on its own, so no broken payload " +
				"can be made"}
		}
		if m.Body != "" && m.Body != "json" {
			v, err := jsondiff.Decode(b.Payload)
			fits := func(v any) bool { return g.Validator().Validate(v) == nil }
			if _, _, wrong := EncodeBody(m.Body, b.Payload, seed, n); err != nil || wrong != nil ||
				Taken(m.Body, v, fits) {
				continue
			}
		}
		at := b.At
		if at == "" {
			at = "the root"
		}
		return b.Payload, b.Keyword + " at " + at, nil
	}
	return nil, "", &generate.Refused{Text: "nothing in it can be violated on its own so that a body of the form " +
		m.Body +
		" shows it, so no broken payload can be made"}
}

// Payload returns what is sent of payload n of a seed. What it breaks stands in an
// attribute of the event.
func (m *Made) Payload(seed, n uint64, data []byte, breaks string) (Payload, error) {
	body, kind, err := EncodeBody(m.Body, data, seed, n)
	if err != nil {
		return Payload{}, err
	}
	if m.Method != "" {
		return Payload{Request: &event.Request{Method: m.Method, Target: m.Target,
			Header: []event.Field{{Name: "Content-Type", Value: kind}}, Body: body}}, nil
	}
	e := &event.Event{ID: fmt.Sprintf("%s-%d-%d", m.Set, seed, n+1), Source: "/made/" + m.Set, Type: m.Type,
		DataContentType: kind, Data: body, Binary: m.Body == "binary"}
	if breaks != "" {
		e.Extensions = []event.Field{{Name: "breaks", Value: breaks}}
	}
	return Payload{Event: e}, nil
}
