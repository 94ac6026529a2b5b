package plan

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/route"
)

// WireTrial is the result of trying one wire of a source on a payload.
type WireTrial struct {
	Wire       int
	Takes      bool
	Late       bool // http: its conditions hold, but an earlier wire took the request
	Conditions []route.Trial
}

// Explain tries every wire of a source on a payload.
func (p *Project) Explain(source int, pl *payload.Payload) (out []WireTrial) {
	src := &p.Sources[source]
	takes := p.Routes(source, pl)
	for i := range src.Wires {
		t := WireTrial{Wire: i, Takes: takes&(1<<i) != 0}
		switch when := &src.Wires[i].When; {
		case pl.Request != nil && src.Kind == HTTP:
			t.Conditions = when.TryRequest(pl.Request)
			t.Late = !t.Takes && when.Matches(pl.Request)
		case pl.Event != nil && src.Kind != HTTP:
			t.Conditions = when.TryEvent(pl.Event)
		}
		out = append(out, t)
	}
	return out
}

// Itself reports whether a source answers a request itself, so that no event comes of it: a CORS
// preflight (Fetch Standard), and OPTIONS of a path that a wire takes, where no wire takes the
// method (RFC 9110 §9.3.7).
func (p *Project) Itself(source int, pl *payload.Payload) bool {
	src, r := &p.Sources[source], pl.Request
	if src.Kind != HTTP || r == nil || r.Method != "OPTIONS" {
		return false
	}
	has := func(name string) bool {
		return slices.ContainsFunc(r.Header, func(f event.Field) bool {
			return strings.EqualFold(f.Name, name) &&
				f.Value != ""
		})
	}
	if has("Origin") && has("Access-Control-Request-Method") {
		return true
	}
	path, _, _ := strings.Cut(r.Target, "?")
	return p.Routes(source, pl) == 0 && slices.ContainsFunc(src.Wires,
		func(w Wire) bool { return w.When.Path.Matches(path) })
}

// NearestMiss describes why no wire of a source takes a payload: which wire came closest, and what
// it wanted. It returns "" where one takes it.
func (p *Project) NearestMiss(source int, pl *payload.Payload) string {
	src := &p.Sources[source]
	switch {
	case p.Routes(source, pl) != 0:
		return ""
	case p.Itself(source, pl):
		return fmt.Sprintf("%s answers OPTIONS itself, as at the front; no function receives it", src.Name)
	case len(src.Wires) == 0:
		return fmt.Sprintf("%s has no wires: events are only stored there", src.Name)
	case (pl.Request != nil) != (src.Kind == HTTP):
		what := map[bool]string{true: "an HTTP request", false: "an event"}
		return fmt.Sprintf("%s is a source of kind %s, this is %s", src.Name, src.Kind, what[pl.Request != nil])
	}
	var conditions [][]route.Trial
	for _, t := range p.Explain(source, pl) {
		conditions = append(conditions, t.Conditions)
	}
	nearest := route.Nearest(conditions)
	var why []string
	for _, c := range conditions[nearest] {
		if !c.Held {
			why = append(why, c.Words())
		}
	}
	return fmt.Sprintf("nearest is the wire to %s: %s", p.Functions[src.Wires[nearest].To].Name,
		strings.Join(why, "; "))
}

// KeyText returns the text that a source sorts a payload by: the partition key of a stream, the
// group of a queue. ok is false when the payload has none.
func (s *Source) KeyText(pl *payload.Payload) (text string, ok bool) {
	if s.Key == "" || pl.Event == nil {
		return "", false
	}
	if !strings.HasPrefix(s.Key, "/") {
		return pl.Event.Attribute(s.Key)
	}
	data, err := jsondiff.Decode(pl.Event.Data)
	if err != nil {
		return "", false
	}
	v, ok := jsondiff.Lookup(data, s.Key)
	if !ok || v == nil {
		return "", false
	}
	if text, ok = v.(string); ok {
		return text, true
	}
	b, err := json.Marshal(v)
	return string(b), err == nil
}

// Partition returns the partition of a key, from 0: the same on every machine and
// in every run (FNV-1a, 64 bits, modulo their number).
func Partition(key string, partitions int) int {
	h := fnv.New64a()
	_, _ = h.Write([]byte(key)) // it never fails
	return int(h.Sum64() % uint64(max(partitions, 1)))
}

// Sorter assigns the numbers by which the engine keeps events in order: the partition of a stream,
// the group of a queue, from 1; 0 where order does not matter. It is not safe for concurrent use.
type Sorter struct {
	p      *Project
	groups []map[string]int32
}

// NewSorter returns the sorter of a run.
func (p *Project) NewSorter() *Sorter {
	return &Sorter{p, make([]map[string]int32, len(p.Sources))}
}

// Key returns the number of a payload at a source. A record without a key is sorted by its id.
func (s *Sorter) Key(source int, pl *payload.Payload) int32 {
	src := &s.p.Sources[source]
	switch src.Kind {
	case Stream:
		text, ok := src.KeyText(pl)
		if !ok && pl.Event != nil {
			text = pl.Event.ID
		}
		return int32(Partition(text, src.Partitions)) + 1
	case Queue:
		text, ok := src.KeyText(pl)
		if !ok {
			return 0
		}
		if s.groups[source] == nil {
			s.groups[source] = map[string]int32{}
		}
		n, known := s.groups[source][text]
		if !known {
			n = int32(len(s.groups[source])) + 1
			s.groups[source][text] = n
		}
		return n
	}
	return 0
}

// WireWords describes what a wire of the source takes.
func (s *Source) WireWords(wire int) string {
	w := &s.Wires[wire]
	if s.Kind == HTTP {
		return w.shareWords() + w.When.String()
	}
	return w.shareWords() + w.When.Words()
}
