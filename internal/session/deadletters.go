package session

import (
	"fmt"
	"slices"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/runner"
)

// sentAgain is an event that was sent again.
type sentAgain struct {
	driver *runner.Follower
	number int64
}

// failedEvent is an event that is to be sent again.
type failedEvent struct {
	trace *runner.Trace
	key   sentAgain
}

// failed reports whether a delivery failed for good.
func failed(d record.Delivery) bool {
	return d.Outcome == engine.DeadLettered || d.Outcome == engine.Failed
}

// SendAgain sends those events of a source again that failed, or of which a dead-letter queue has the letters, each
// once, of the latest events of the session. It returns how many there were.
func (s *Session) SendAgain(source string) (n int, err error) {
	p := s.Plan()
	at := p.SourceNamed(source)
	if at < 0 {
		return 0, fmt.Errorf("there is no source %q", source)
	}
	var again []failedEvent
	var walk func(t *runner.Trace, driver *runner.Follower)
	walk = func(t *runner.Trace, driver *runner.Follower) {
		for _, made := range t.Made {
			walk(made, driver)
		}
		if t.Source >= len(p.Sources) || !slices.ContainsFunc(t.Ended, failed) {
			return
		}
		if src := &p.Sources[t.Source]; t.Source != at && src.DeadLetter != at {
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if key := (sentAgain{driver, t.Number}); !s.resent[key] {
			again = append(again, failedEvent{t, key})
		}
	}
	for _, v := range s.Recent(keptFirings) {
		if v.Trace != nil {
			walk(v.Trace, v.Firing.driver)
		}
	}
	for _, x := range again {
		if _, err := s.firePublished(p.Sources[x.trace.Source].Name, x.trace.Payload); err != nil {
			return n, err
		}
		s.mu.Lock()
		s.resent[x.key] = true
		s.mu.Unlock()
		n++
	}
	return n, nil
}

// Resend sends the event of a firing again, as it was sent.
func (s *Session) Resend(v *Shown) *Firing {
	item := *v.Item
	item.Payload, item.File = v.Sent, ""
	return s.Fire(Order{Item: &item, Variant: v.Variant, Origin: v.Origin})
}
