package session

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/front"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/recorder"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/ingest"
)

// frontRecording is a recording of the front.
type frontRecording struct {
	recorder.Recorder
	name string
	file string // absolute
}

// Record begins to record requests to the front, as a payload set.
func (s *Session) Record(name string) error {
	r, err := ingest.Recording(s.Dir, name, nil, false)
	if err != nil {
		return err
	}
	f := &frontRecording{name: name, file: filepath.Join(s.Dir, catalog.SavedDir, name+".har")}
	f.Archive, f.Redact = r.Archive, r.Redact
	if s.Front != nil {
		f.Base = "http://" + s.Front.Address
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recording != nil {
		_ = r.Archive.Close() // nothing was written to it
		return fmt.Errorf("%s is already being recorded", s.recording.name)
	}
	s.recording = f
	return nil
}

// RecordingNow returns the name of the set that the front is recorded as, and the number of
// exchanges; "" when it is not recorded.
func (s *Session) RecordingNow() (name string, n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recording == nil {
		return "", 0
	}
	return s.recording.name, s.recording.Archive.Count()
}

// StopRecording ends the recording of the front and adds the set to the project. It returns what
// was recorded, in words.
func (s *Session) StopRecording() (said string, err error) {
	s.mu.Lock()
	f := s.recording
	s.recording = nil
	s.mu.Unlock()
	if f == nil {
		return "no recording in progress", nil
	}
	n := f.Archive.Count()
	if err := f.Archive.Close(); err != nil {
		return "", err
	}
	found, failed := f.Report()
	if failed != nil {
		return "", fmt.Errorf("the recording is incomplete: %w", failed)
	}
	if n == 0 {
		return "no requests came to the front, so there is no recording", nil
	}
	said = fmt.Sprintf("%s recorded as %s", text.Plural(n, "exchange"), f.name)
	if n := len(found.Redacted); n > 0 {
		said += fmt.Sprintf(", secrets redacted in %s", text.Plural(n, "place"))
	}
	if n := len(found.Suspects); n > 0 {
		said += fmt.Sprintf("; %s that may hold a secret kept", text.Plural(n, "value"))
	}
	if _, err := project.AddRecording(s.Dir, f.name, catalog.SavedDir+"/"+f.name+".har"); err != nil {
		return said, err
	}
	s.touch(f.file)
	go s.bringAll()
	return said, nil
}

// recorded answers a request at the front, and records both while recording is on.
func (s *Session) recorded(ctx context.Context, r *event.Request, trailers []string) front.Answer {
	s.mu.Lock()
	f := s.recording
	s.mu.Unlock()
	began := time.Now()
	if len(trailers) > 0 {
		s.Log.Add(began, "front", "front", logs.Note, fmt.Sprintf("%s %s came with trailers, which are left out: %s",
			r.Method, payload.ShownTarget(r.Target), strings.Join(trailers, ", ")))
	}
	a := s.answer(ctx, r)
	if f == nil {
		return a
	}
	reply := &payload.Reply{Status: a.Status, Header: recorder.Fields(a.Header), Body: a.Body}
	took := time.Since(began)
	_ = f.Keep(payload.Payload{Request: r, Reply: reply, Time: began.UTC()}, took, 0, "") // it remembers what failed
	return a
}
