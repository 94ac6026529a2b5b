package record

import "nightdrill.dev/internal/core/clock"

// Span is a span that a function sent (OpenTelemetry, trace/v1).
type Span struct {
	Event      int64  // whose trace it is of
	Invocation uint64 // 0 where it is not known
	ID, Parent uint64 // Parent is an invocation, another span, or 0
	Begin, End clock.Time
	Function   int32
	Name       int32 // place in SpanNames, from 1; 0 where there were too many
	Attributes int32 // number of their bytes as JSON, from 1; 0 without any, or when they were not kept
	Kind       uint8 // of trace/v1
	Failed     bool  // its status says so
}

// SpanName returns the name of a span; "" where it is not known.
func (r *Run) SpanName(s *Span) string {
	if s.Name < 1 || int(s.Name) > len(r.SpanNames) {
		return ""
	}
	return r.SpanNames[s.Name-1]
}

// SpansMissed counts what was not kept of the spans that functions sent.
type SpansMissed struct {
	Dropped int `json:"dropped,omitempty"` // spans of traces that there was no room for
	Unknown int `json:"unknown,omitempty"` // of traces of nothing that was invoked here
	Refused int `json:"refused,omitempty"` // requests that could not be read
}

// Any reports whether anything was not kept.
func (m SpansMissed) Any() bool { return m != SpansMissed{} }
