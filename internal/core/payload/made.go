package payload

import (
	"fmt"

	"nightdrill/internal/core/event"
	"nightdrill/internal/core/generate"
)

// Modes are what can be made from a schema.
var Modes = []string{"valid", "edges", "broken"}

// Made says how data is made from a schema and what becomes of it: an event, or
// the body of an HTTP request where there is a method.
type Made struct {
	Set, Type      string
	Method, Target string
	Mode           string // one of Modes
	Body           string // one of Bodies; "" for JSON
}

// Make gives payload n of a seed; for broken ones, breaks says which keyword is
// violated where.
func (m *Made) Make(g *generate.Generator, seed, n uint64) (data []byte, breaks string, err error) {
	switch m.Mode {
	case "edges":
		data, err = g.Edge(seed, n)
	case "broken":
		b, ok := g.Break(seed, n)
		if !ok {
			return nil, "", &generate.Refused{Text: "nothing in it can be violated by itself, so no broken payload can be made"}
		}
		at := b.At
		if at == "" {
			at = "the whole"
		}
		data, breaks = b.Payload, b.Keyword+" at "+at
	default:
		data, err = g.Make(seed, n)
	}
	return data, breaks, err
}

// Payload gives what is sent of payload n of a seed. What it breaks stands in an
// attribute of the event.
func (m *Made) Payload(seed, n uint64, data []byte, breaks string) (Payload, error) {
	body, kind, err := EncodeBody(m.Body, data, seed, n)
	if err != nil {
		return Payload{}, err
	}
	if m.Method != "" {
		return Payload{Request: &event.Request{Method: m.Method, Target: m.Target, Header: []event.Field{{Name: "Content-Type", Value: kind}}, Body: body}}, nil
	}
	e := &event.Event{ID: fmt.Sprintf("%s-%d-%d", m.Set, seed, n+1), Source: "/made/" + m.Set, Type: m.Type, DataContentType: kind, Data: body, Binary: m.Body == "binary"}
	if breaks != "" {
		e.Extensions = []event.Field{{Name: "breaks", Value: breaks}}
	}
	return Payload{Event: e}, nil
}
