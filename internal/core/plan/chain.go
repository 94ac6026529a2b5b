package plan

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/schedule"
)

// Reply is what a function answered, as far as chains need it.
type Reply struct {
	Function string
	Status   int
	Kind     string                     // media type
	Header   func(name string) []string // values of a header
	Body     []byte                     // unpacked
	Subject  string                     // of the event that was answered
	At       time.Time
}

// Holds reports whether a reply meets the conditions under which it is sent on.
func (t *Then) Holds(r *Reply) bool {
	if !slices.ContainsFunc(t.Status, func(s StatusRange) bool { return s.From <= r.Status && r.Status <= s.To }) {
		return false
	}
	for _, h := range t.Header {
		values := r.Header(h.Name)
		if !slices.ContainsFunc(values, func(v string) bool { return h.Value == "*" || v == h.Value }) {
			return false
		}
	}
	if len(t.Values) == 0 {
		return true
	}
	body, err := jsondiff.Decode(r.Body)
	if err != nil {
		return false
	}
	for _, want := range t.Values {
		if got, ok := jsondiff.Lookup(body, want.At); !ok || !jsondiff.Equal(got, want.Want) {
			return false
		}
	}
	return true
}

// ChainEvent is the event that a reply becomes.
type ChainEvent struct {
	Payload payload.Payload
	Key     string // storage: where the object goes, whose bytes are the event's data
}

// Words describes the conditions under which a reply is sent on; "" for any 2xx reply.
func (t *Then) Words() string {
	var out []string
	if len(t.Status) != 1 || t.Status[0] != (StatusRange{200, 299}) {
		for _, s := range t.Status {
			text := fmt.Sprint(s.From)
			if s.To > s.From {
				text = fmt.Sprintf("%dxx", s.From/100)
			}
			out = append(out, "status "+text)
		}
		out = []string{strings.Join(out, " or ")}
	}
	for _, h := range t.Header {
		out = append(out, "header "+h.Name+" "+h.Value)
	}
	for _, v := range t.Values {
		text, _ := json.Marshal(v.Want) // it came from a file
		out = append(out, fmt.Sprintf("%s is %s", v.At, text))
	}
	if out == nil {
		return ""
	}
	return ", if " + strings.Join(out, " and ")
}

// Make turns a reply into the event that is sent to a source. id is the event's id; templates call
// stop to learn whether they must end.
func (t *Then) Make(to *Source, r *Reply, id string, stop func() error) (o ChainEvent, err error) {
	e := &event.Event{ID: id, Source: "/" + r.Function, Type: t.Type, Subject: r.Subject, Time: r.At,
		DataContentType: r.Kind, Data: r.Body}
	if e.DataContentType == "" && json.Valid(r.Body) {
		e.DataContentType = "application/json"
	}
	e.Binary = len(r.Body) > 0 && !event.IsJSON(e.DataContentType) && !strings.HasPrefix(e.DataContentType, "text/")
	if t.Objects != nil && to.Kind == Storage {
		key, _, err := t.Objects.Body([]*event.Event{e}, e.Time, stop)
		if err != nil {
			return o, fmt.Errorf("the object's key: %w", err)
		}
		o.Key = strings.TrimSpace(string(key))
	}
	if t.Shape != nil {
		if e.Data, e.DataContentType, err = t.Shape.Body([]*event.Event{e}, e.Time, stop); err != nil {
			return o, err
		}
		e.Binary = false
	}
	o.Payload.Event = e
	if to.Kind == HTTP {
		q := &event.Request{Method: t.Method, Target: t.Path, Body: e.Data}
		if e.DataContentType != "" && len(e.Data) > 0 {
			q.Header = []event.Field{{Name: "Content-Type", Value: e.DataContentType}}
		}
		o.Payload = payload.Payload{Request: q}
	}
	return o, nil
}

// Doubled returns the place where data is JSON inside a JSON string: the mark of a reply that was
// encoded twice, which makes the next function stumble. The place is "" for the root, or a JSON
// Pointer to the first such member; ok is false if there is none.
func Doubled(data []byte) (place string, ok bool) {
	inner := func(text string) bool {
		text = strings.TrimSpace(text)
		return (strings.HasPrefix(text, "{") || strings.HasPrefix(text, "[")) && json.Valid([]byte(text))
	}
	var whole any
	if json.Unmarshal(data, &whole) != nil {
		return "", false
	}
	switch v := whole.(type) {
	case string:
		return "", inner(v)
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			if text, is := v[name].(string); is && inner(text) {
				return jsondiff.Pointer([]string{name}), true
			}
		}
	}
	return "", false
}

// MostTimes bounds the scheduled runs of a schedule in one drill.
const MostTimes = 100_000

// TimesOf returns the events of a schedule over a stretch of a drill's own clock, with how long
// after its beginning each falls due on that clock, and notes about daylight-saving changes. Their
// data are the set's payloads in turn, or only the time where there is no set.
func TimesOf(src *Source, c *Clock, set *payload.Set) (events []payload.Payload, after []time.Duration,
	notes []string) {
	end := c.From.Add(c.For)
	next := make([]schedule.Occurrence, len(src.Times))
	for i := range src.Times {
		next[i] = following(&src.Times[i], c.From.Add(-1), c.From)
	}
	for len(events) < MostTimes {
		first := -1
		for i := range next {
			if !next[i].At.IsZero() && next[i].At.Before(end) && (first < 0 || next[i].At.Before(next[first].At)) {
				first = i
			}
		}
		if first < 0 {
			break
		}
		o := next[first]
		p := ScheduleEvent(src, &src.Times[first], o.At)
		if set != nil && len(set.Payloads) > 0 {
			e := *set.Payloads[len(events)%len(set.Payloads)].Event
			e.Time, e.ID = o.At, p.Event.ID
			p = payload.Payload{Event: &e, Time: o.At}
		}
		events, after = append(events, p), append(after, o.At.Sub(c.From))
		if o.Note != "" {
			notes = append(notes, src.Name+": "+o.Note)
		}
		next[first] = following(&src.Times[first], o.At, c.From)
	}
	return events, after, notes
}

// following returns the next time of a schedule, or none; an interval counts from where asking
// began.
func following(s *schedule.Spec, after, from time.Time) schedule.Occurrence {
	if after.Before(from) && s.Interval() > 0 {
		after = from
	}
	o, ok := s.Next(after)
	if !ok {
		return schedule.Occurrence{}
	}
	return o
}

// ScheduleEvent returns the event of a schedule's time.
func ScheduleEvent(src *Source, s *schedule.Spec, at time.Time) payload.Payload {
	// texts always marshal
	data, _ := json.Marshal(map[string]string{"due": at.Format(time.RFC3339), "schedule": s.Text,
		"zone": s.Zone.String()})
	return payload.Payload{Time: at, Event: &event.Event{ID: src.Name + "-" + at.UTC().Format("20060102T150405Z"),
		Source: "/" + src.Name, Type: "schedule.due", Subject: s.Text, Time: at, DataContentType: "application/json",
		Data: data}}
}
