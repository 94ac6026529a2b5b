package broker

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

// bindings are the prefixes of headers that hold the attributes of a CloudEvent in binary mode, by the bindings of
// CloudEvents 1.0.2 for each protocol: MQTT has none, AMQP either of two, Kafka and NATS one. Redis has no binding.
var bindings = map[string][]string{"mqtt": {""}, "amqp": {"cloudEvents:", "cloudEvents_"}, "kafka": {"ce_"},
	"nats": {"ce-"}, "redis": {"ce_"}}

// Payload returns a message as an event of a recording: a CloudEvent by the binding of the broker's protocol, or one
// that is made for plain data. What the message has beside that is kept in attributes: the key in `partitionkey`, the
// partition in `partition`, the broker's own time in `brokertime`, other headers in `headers`. redact, if not nil, is
// applied to those. asJSON reports whether its data is valid JSON, of a type that is.
func (m *Message) Payload(kind, set string, redact func([]event.Field) []event.Field) (p payload.Payload, asJSON bool,
	err error) {
	e, rest, err := m.cloudEvent(kind)
	if err != nil {
		return payload.Payload{}, false, err
	}
	p, asJSON = m.payload(e, rest, set, redact)
	return p, asJSON, nil
}

// Plain is Payload of a message whose attributes of a CloudEvent are not valid.
func (m *Message) Plain(set string, redact func([]event.Field) []event.Field) (p payload.Payload, asJSON bool) {
	return m.payload(nil, m.Headers, set, redact)
}

func (m *Message) payload(e *event.Event, rest []event.Field, set string, redact func([]event.Field) []event.Field) (
	p payload.Payload, asJSON bool) {
	if e == nil {
		id := m.ID
		if id == "" {
			id = uuid.NewString()
		}
		e = &event.Event{ID: clean(id), Source: "/recorded/" + set, Type: set + ".recorded", Time: m.Sent.UTC(),
			Data:            m.Data,
			DataContentType: m.ContentType}
		if m.Sent.IsZero() {
			e.Time = m.At.UTC()
		}
		switch asJSON = json.Valid(m.Data); {
		case m.ContentType != "":
		case asJSON:
			e.DataContentType = "application/json"
		case utf8.Valid(m.Data):
			e.DataContentType = "text/plain"
		default:
			e.DataContentType = "application/octet-stream"
		}
	} else {
		asJSON = json.Valid(e.Data)
	}
	if ofJSON := event.IsJSON(e.DataContentType); !ofJSON || !asJSON {
		asJSON = false
		e.Binary = ofJSON || !utf8.Valid(e.Data)
	}
	if redact != nil {
		rest = redact(rest)
	}
	add := func(name, value string) {
		if _, ok := e.Attribute(name); !ok {
			_ = e.SetAttribute(name, clean(value)) // its name is valid
		}
	}
	e.Subject = subjectOf(e.Subject, m.Place)
	if m.Key != "" {
		add("partitionkey", m.Key)
	}
	if m.Partition >= 0 {
		add("partition", strconv.Itoa(m.Partition))
	}
	if !m.Sent.IsZero() && !e.Time.Equal(m.Sent) {
		add("brokertime", m.Sent.UTC().Format(time.RFC3339Nano))
	}
	if m.Redelivered {
		add("redelivered", "true")
	}
	if m.Lost != 0 {
		add("missing", missingText(m.Lost))
	}
	if len(rest) > 0 {
		add("headers", headersText(rest))
	}
	add(payload.RecordedTime, m.At.UTC().Format(time.RFC3339Nano))
	return payload.Payload{Event: e, Time: m.At}, asJSON
}

// subjectOf returns the subject of an event: where it was published, if it has none of its own.
func subjectOf(own, place string) string {
	if own != "" {
		return own
	}
	return clean(place)
}

func missingText(n int) string {
	if n < 0 {
		return "some"
	}
	return strconv.Itoa(n)
}

// headersText writes headers as a list, in the order in which they came.
func headersText(all []event.Field) string {
	var b strings.Builder
	for i, h := range all {
		if i > 0 {
			b.WriteString("\n")
		}
		b.WriteString(h.Name + ": " + strings.ReplaceAll(h.Value, "\n", " "))
	}
	return b.String()
}

// clean makes text valid UTF-8 without control characters, as attributes must be: bytes beyond ASCII that are not UTF-8
// are taken as Latin-1, which some SDKs send.
func clean(text string) string {
	if !utf8.ValidString(text) {
		runes := make([]rune, 0, len(text))
		for _, b := range []byte(text) {
			runes = append(runes, rune(b))
		}
		text = string(runes)
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' || r >= 0x7f && r < 0xa0 || r == utf8.RuneError {
			return -1
		}
		return r
	}, text)
}

// cloudEvent returns the CloudEvent that a message is, and its other headers; nil for plain data.
func (m *Message) cloudEvent(kind string) (*event.Event, []event.Field, error) {
	if strings.HasPrefix(m.ContentType, event.StructuredType) {
		e, err := event.Parse(m.Data)
		if err != nil {
			return nil, nil, fmt.Errorf("%s says that it is a CloudEvent, and it is not valid: %w", m.describe(), err)
		}
		return &e, m.Headers, nil
	}
	prefix := ""
	at := slices.IndexFunc(m.Headers, func(h event.Field) bool {
		for _, p := range bindings[kind] {
			if strings.EqualFold(h.Name, p+"specversion") {
				prefix = h.Name[:len(h.Name)-len("specversion")]
				return true
			}
		}
		return false
	})
	if at < 0 {
		return nil, m.Headers, nil
	}
	e := &event.Event{Data: m.Data}
	var rest []event.Field
	for _, h := range m.Headers {
		name := strings.ToLower(h.Name)
		if len(name) <= len(prefix) || !strings.EqualFold(h.Name[:len(prefix)], prefix) {
			rest = append(rest, h)
			continue
		}
		// of a protocol whose attributes have no prefix, what is no attribute is a header
		switch name = name[len(prefix):]; name {
		case "specversion", "datacontenttype": // the content type of the message is what counts
		default:
			if err := e.SetAttribute(name, clean(h.Value)); err != nil {
				rest = append(rest, h)
			}
		}
	}
	e.DataContentType = m.ContentType
	if e.DataContentType == "" {
		if i := slices.IndexFunc(m.Headers, func(h event.Field) bool {
			return strings.EqualFold(h.Name, prefix+"datacontenttype")
		}); i >= 0 {
			e.DataContentType = m.Headers[i].Value
		}
	}
	if name := e.Missing(); name != "" {
		return nil, nil, fmt.Errorf("%s has attributes of a CloudEvent, and not %s", m.describe(), name)
	}
	return e, rest, nil
}

// describe names a message.
func (m *Message) describe() string {
	if m.ID != "" {
		return "message " + payload.Short(clean(m.ID), 60) + " of " + payload.Short(clean(m.Place), 60)
	}
	return "a message of " + payload.Short(clean(m.Place), 60)
}

// PlaceText names a place in words.
func PlaceText(at *plan.BrokerPlace) string {
	switch {
	case at.Exchange != "":
		return "exchange " + at.Exchange + ", key " + at.Key
	case at.Topic != "":
		return "topic " + at.Topic
	case at.Stream != "" && at.Subject != "":
		return "stream " + at.Stream + ", subject " + at.Subject
	case at.Stream != "":
		return "stream " + at.Stream
	case at.Subject != "":
		return "subject " + at.Subject
	}
	return "queue " + at.Queue
}
