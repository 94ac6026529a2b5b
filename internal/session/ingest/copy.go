package ingest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/broker"
	"nightdrill.dev/internal/live/recorder"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// Copy describes what to record from a broker.
type Copy struct {
	Server   *broker.Server
	At       plan.BrokerPlace
	Name     string // of the payload set; an existing recording is appended to
	Redact   []string
	Suspects bool
	For      time.Duration // 0 for until the context ends
	Count    int           // messages; 0 for any number
	// Ready is called once messages are copied, Came with each, Note with what is noted; nil for none.
	Ready func()
	Came  func(*broker.Message)
	Note  func(text string)
}

// Copied is what a copy came to.
type Copied struct {
	File     string // relative to the project's folder
	Count    int    // of this copy
	Entries  int    // of the whole recording
	Missing  int    // messages that are known to be missing
	Gaps     int    // places at which some are missing, of which the number is not known
	Invalid  int    // CloudEvents that are not valid, which are kept as plain data
	Repaired int64
	Added    bool // the set was added to the project's file
	payload.Tally
	Notes []string
}

// errEnough ends a copy that has its number of messages.
var errEnough = errors.New("enough")

// readAhead is how many messages are read before those before them are written, at most.
const (
	readAhead      = 4096
	readAheadBytes = 64 << 20
)

// sizeOf returns what a message takes of the room for those that are read ahead.
func sizeOf(m *broker.Message) int64 { return min(int64(len(m.Data)), readAheadBytes) }

// flushEvery is how often a recording is written at the latest.
const flushEvery = 200 * time.Millisecond

// Run copies until the context ends, the time is over or there are enough messages.
func (c Copy) Run(ctx context.Context, dir string) (*Copied, error) {
	if err := project.SetName(c.Name); err != nil {
		return nil, err
	}
	for _, p := range c.Redact {
		if _, err := jsondiff.Parse(p); err != nil {
			return nil, err
		}
	}
	key, err := RedactionKey(dir)
	if err != nil {
		return nil, err
	}
	out := &Copied{File: catalog.SavedDir + "/" + c.Name + ".ndjson"}
	lines, err := recorder.OpenLines(filepath.Join(dir, filepath.FromSlash(out.File)))
	if err != nil {
		return nil, err
	}
	out.Repaired = lines.Repaired
	redact := &payload.Redactor{Key: key, Set: c.Name, Pointers: c.Redact, Looks: c.Suspects}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var failed atomic.Pointer[error]
	flushed := make(chan struct{})
	go func() {
		defer close(flushed)
		tick := time.NewTicker(flushEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if err := lines.Flush(); err != nil {
					failed.Store(&err)
					stop()
				}
			}
		}
	}()
	headers := func(all []event.Field) []event.Field {
		clean, redacted, suspects := redact.Headers(all)
		out.Add(redacted, suspects)
		return clean
	}
	keep := func(m *broker.Message) error {
		p, asJSON, err := m.Payload(c.Server.Kind, c.Name, headers)
		if err != nil { // it is kept all the same
			out.Invalid++
			if out.Invalid == 1 {
				c.note(err.Error() + "; it is kept as plain data")
			}
			p, asJSON = m.Plain(c.Name, headers)
		}
		clean, redacted, suspects := redact.Apply(p)
		out.Add(redacted, suspects)
		if asJSON && !bytes.Equal(clean.Event.Data, p.Event.Data) {
			asJSON = json.Valid(clean.Event.Data)
		}
		if err := lines.Append(func(b []byte) []byte { return clean.Event.AppendAs(b, asJSON) }); err != nil {
			return err
		}
		switch {
		case m.Lost < 0:
			out.Gaps++
		default:
			out.Missing += m.Lost
		}
		out.Count++
		if c.Came != nil {
			c.Came(m)
		}
		if c.Count > 0 && out.Count >= c.Count {
			return errEnough
		}
		return nil
	}
	// messages are read while those before them are written
	room := semaphore.NewWeighted(readAheadBytes)
	read, kept := make(chan *broker.Message, readAhead), make(chan error, 1)
	go func() {
		for m := range read {
			err := keep(m)
			room.Release(sizeOf(m))
			if err != nil {
				kept <- err
				stop()
				for m := range read { // what was read beyond that
					room.Release(sizeOf(m))
				}
				return
			}
		}
		kept <- nil
	}()
	each := func(m *broker.Message) error {
		if room.Acquire(ctx, sizeOf(m)) == nil { // else it is over
			read <- m
		}
		return nil
	}
	ready := func() {
		if c.For > 0 {
			time.AfterFunc(c.For, stop)
		}
		if c.Ready != nil {
			c.Ready()
		}
	}
	err = c.Server.Copy(ctx, &c.At, broker.Options{Each: each, Ready: ready, Note: c.note})
	close(read)
	if e := <-kept; e != nil && !errors.Is(e, errEnough) {
		err = fmt.Errorf("the recording cannot be written: %w", e)
	}
	stop()
	<-flushed
	if e := failed.Load(); e != nil && err == nil {
		err = fmt.Errorf("the recording cannot be written: %w", *e)
	}
	out.Entries = lines.Count()
	if e := lines.Close(); e != nil && err == nil {
		err = fmt.Errorf("the recording cannot be written: %w", e)
	}
	if out.Invalid > 1 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s that say they are CloudEvents are not valid, and are kept as "+
			"plain data", text.Plural(out.Invalid, "message")))
	}
	if out.Entries > 0 {
		var e error
		if out.Added, e = project.AddRecording(dir, c.Name, out.File); e != nil {
			out.Notes = append(out.Notes, e.Error())
		}
	}
	return out, err
}

func (c *Copy) note(text string) {
	if c.Note != nil {
		c.Note(text)
	}
}
