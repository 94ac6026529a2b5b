package upstream

import (
	"errors"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/live/hold"
	"nightdrill.dev/internal/live/recorder"
)

// A recording holds at most so many calls, and so many bytes of bodies.
const (
	mostRecorded      = 100_000
	mostRecordedBytes = 512 << 20
)

// recording is a new recording, which takes the place of the one before when it has ended.
type recording struct {
	recorder.Recorder
	path, next string
	bytes      atomic.Int64
	calls      atomic.Int64
	lost       atomic.Int64 // calls that there was no room for
	todo       chan func()  // what is to be written, in its order: no call waits for the disk
	written    chan struct{}
	lock       *hold.Lock // held while it is made; nil where files cannot be held
}

// mostUnwritten is how many calls may wait to be written.
const mostUnwritten = 256

// nextMark is added to the name of a recording while it is made.
const nextMark = ".new"

// lockMark is added to the name of the file that is held meanwhile.
const lockMark = ".lock"

// begin begins a recording in place of the one at path, or goes on with that.
func begin(path string, redact *payload.Redactor, goOn bool) (*recording, error) {
	r := &recording{path: path, next: path + nextMark}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	var err error
	if r.lock, err = hold.Take(path + lockMark); errors.Is(err, hold.ErrHeld) {
		return nil, errors.New("another program is recording it; one recording is made at a time")
	}
	if goOn {
		r.next = path
	} else {
		_ = os.Remove(r.next) // of a program that was killed
	}
	a, err := recorder.Open(r.next)
	if err != nil {
		r.lock.Release()
		return nil, err
	}
	r.Archive, r.Redact = a, redact
	r.todo, r.written = make(chan func(), mostUnwritten), make(chan struct{})
	go func() {
		defer close(r.written)
		for do := range r.todo {
			do()
		}
	}()
	return r, nil
}

// keep records a call soon. failed hears why it could not.
func (r *recording) keep(p payload.Payload, wait, receive time.Duration, comment string, failed func(error)) {
	size := int64(len(p.Request.Body))
	if p.Reply != nil {
		size += int64(len(p.Reply.Body))
	}
	if r.calls.Add(1) > mostRecorded || r.bytes.Add(size) > mostRecordedBytes {
		r.lost.Add(1)
		return
	}
	r.todo <- func() {
		if err := r.Keep(p, wait, receive, comment); err != nil {
			failed(err)
		}
	}
}

// interruptedMark is added to the name of a recording of a run that did not come to its end.
const interruptedMark = ".interrupted"

// end closes the recording; no call is in progress. It takes the place of the one before, unless nothing was recorded.
// That of a run that did not come to its end is put beside the one before, where there is one.
func (r *recording) end(whole bool) error {
	defer func() {
		_ = os.Remove(r.path + lockMark)
		r.lock.Release()
	}()
	close(r.todo)
	<-r.written
	n := r.Archive.Count()
	if err := r.Archive.Close(); err != nil || n == 0 || r.next == r.path {
		return err
	}
	if _, err := os.Stat(r.path); err == nil && !whole {
		return os.Rename(r.next, r.path+interruptedMark)
	}
	return os.Rename(r.next, r.path)
}
