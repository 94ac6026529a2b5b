// Package logs keeps what functions write, and when their instances started and
// stopped, in one order: the last lines in memory, all of them in a file that is
// begun anew when it has grown large. Add enters a line; After, Last and Between
// read. A function that floods its output costs the lines of the others their
// place, and nothing else.
package logs

import (
	"bufio"
	"fmt"
	"os"
	"sync"
	"time"

	"nightdrill.dev/internal/core/record"
)

// Kind is the kind of an entry.
type Kind = record.LineKind

// The kinds of entries.
const (
	Line    = record.Written
	Started = record.InstanceStarted
	Ready   = record.InstanceReady
	Stopped = record.InstanceStopped
	Note    = record.Noted
)

// Entry is one line. Nothing in it would be obeyed by a terminal.
type Entry struct {
	N        uint64 // from 1, in the order of entering
	At       time.Time
	Function string
	Instance string // such as quote-3
	Kind     Kind
	Text     string
}

const (
	keptEntries = 20_000
	keptBytes   = 8 << 20
	fileLimit   = 16 << 20
)

// Log is safe for use by several goroutines.
type Log struct {
	mu     sync.Mutex
	ring   []Entry // entry n is at n % keptEntries
	last   uint64
	first  uint64 // the oldest that is kept
	bytes  int
	path   string
	file   *os.File
	out    *bufio.Writer
	filled int
}

// New returns a log that is also written to a file, unless the path is "". A file
// that cannot be written is done without.
func New(path string) *Log {
	return &Log{ring: make([]Entry, keptEntries), first: 1, path: path}
}

// begin opens the file, and keeps the one that was there as the former one.
func (l *Log) begin() {
	if l.path == "" {
		return
	}
	if l.file != nil {
		_ = l.out.Flush()
		_ = l.file.Close()
	}
	_ = os.Rename(l.path, l.path+".1") // there may be none yet
	file, err := os.OpenFile(l.path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		l.path, l.file = "", nil
		return
	}
	l.file, l.out, l.filled = file, bufio.NewWriterSize(file, 32<<10), 0
}

// Add enters a line; its time is when it was read.
func (l *Log) Add(at time.Time, function, instance string, kind Kind, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.last++
	slot := &l.ring[l.last%keptEntries]
	if slot.N > 0 && slot.N >= l.first {
		l.bytes -= len(slot.Text)
		l.first = slot.N + 1
	}
	*slot = Entry{l.last, at, function, instance, kind, text}
	for l.bytes += len(text); l.bytes > keptBytes && l.first < l.last; l.first++ {
		old := &l.ring[l.first%keptEntries]
		l.bytes -= len(old.Text)
		*old = Entry{}
	}
	if l.file == nil {
		l.begin()
	}
	if l.file != nil {
		n, _ := fmt.Fprintf(l.out, "%s %s %s\n", at.Format("15:04:05.000000"), instance, text)
		if l.filled += n; l.filled > fileLimit {
			l.begin()
		}
	}
}

// Last returns the number of the last entry.
func (l *Log) Last() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// After returns the entries that follow a number, oldest first, the number of the last one, and how
// many of them are no longer kept.
func (l *Log) After(number uint64) (out []Entry, last uint64, lost int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	from := max(number+1, l.first)
	lost = int(from - number - 1)
	for last = max(number, from-1); last < l.last; {
		last++
		out = append(out, l.ring[last%keptEntries])
	}
	return out, last, lost
}

// Up returns up to n of the entries up to a number that satisfy keep, oldest first.
func (l *Log) Up(to uint64, n int, keep func(*Entry) bool) (out []Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := min(to, l.last); i >= l.first && len(out) < n; i-- {
		if e := &l.ring[i%keptEntries]; keep(e) {
			out = append(out, *e)
		}
	}
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return out
}

// Between returns the lines of an instance from one moment up to another, the
// first of them up to a number.
func (l *Log) Between(instance string, from, to time.Time, most int) (out []Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := l.last; i >= l.first; i-- {
		e := &l.ring[i%keptEntries]
		if e.At.Before(from) && e.Instance == instance {
			break
		}
		if e.Instance == instance && e.Kind == Line && e.At.Before(to) {
			out = append(out, *e)
		}
	}
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return out[:min(len(out), most)]
}

// Close writes the file to its end.
func (l *Log) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file != nil {
		_ = l.out.Flush() // nothing depends on it
		_ = l.file.Close()
		l.file, l.path = nil, ""
	}
}
