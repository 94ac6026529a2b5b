package session

import (
	"context"
	"net/http"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/live/front"
	"nightdrill.dev/internal/session/catalog"
)

// answer answers a request at the front: by the front's own rules, or by the functions of the source
// whose wire takes it.
func (s *Session) answer(ctx context.Context, r *event.Request) front.Answer {
	s.enter()
	defer s.leave()
	s.mu.Lock()
	p, paused := s.Whole, s.paused
	s.mu.Unlock()
	if paused != "" {
		a := front.Plain(http.StatusServiceUnavailable, "%s; the front accepts requests again afterwards", paused)
		a.Header.Set("Retry-After", "5")
		return a
	}
	d := front.Decide(p, r)
	if d.Source < 0 {
		return d.Answer
	}
	pl := &payload.Payload{Request: r}
	src := &p.Sources[d.Source]
	item := &catalog.Item{Source: d.Source, SourceName: src.Name, HTTP: true, Label: pl.Label(), Payload: pl}
	// one that no wire takes can be offered again when a wire is fixed
	f := s.Fire(Order{Item: item, Origin: AtFront, Variant: d.Variant})
	if d.Untaken {
		return d.Answer
	}
	return front.Allow(s.await202(ctx, f, pl), src.CORS, r.HeaderValue("Origin"))
}

// await202 waits for the reply, unless the caller does not wait for it.
func (s *Session) await202(ctx context.Context, f *Firing, pl *payload.Payload) front.Answer {
	if pl.Async() {
		select {
		case <-f.Done():
			if v := s.Look(f); v.Refused != nil || v.Last() == nil {
				return s.answerOf(f) // it was rejected
			}
		case <-ctx.Done():
		case <-time.After(asyncWait):
		}
		a := front.Plain(http.StatusAccepted, "accepted as event %d; its outcome is on the screen", f.N)
		a.Header.Set("Preference-Applied", "respond-async") // RFC 7240 §3
		return a
	}
	select {
	case <-f.Done():
	case <-ctx.Done():
		return front.Answer{Status: 499}
	}
	return s.answerOf(f)
}

// asyncWait is how long an asynchronous caller waits to learn that it was rejected.
const asyncWait = 5 * time.Millisecond
