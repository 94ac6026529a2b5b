package session

import (
	"fmt"
	"sync"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/logs"
)

// Bounds of the log that is kept with a run.
const (
	mostRunLines   = 50_000
	mostRunBytes   = 4 << 20
	longestRunLine = 4 << 10
)

// runLog collects the log of a drill, up to a bound: of what is beyond it, only the number is kept.
type runLog struct {
	log   *logs.Log
	mu    sync.Mutex
	taken uint64 // number of the last entry that was taken in
	lines []record.Line
	bytes int
	lost  int
}

// newRunLog returns the log of a drill that begins now.
func newRunLog(log *logs.Log) *runLog { return &runLog{log: log, taken: log.Last()} }

// upTo takes in what was written since, and returns all lines so far; at returns a moment as the
// run's time. The slice only grows: what was returned stays as it is.
func (l *runLog) upTo(at func(time.Time) clock.Time) []record.Line {
	l.mu.Lock()
	defer l.mu.Unlock()
	entries, last, lost := l.log.After(l.taken)
	l.taken = last
	l.lost += lost
	for i := range entries {
		e := &entries[i]
		if len(l.lines) >= mostRunLines || l.bytes+len(e.Text) > mostRunBytes {
			l.lost += len(entries) - i
			break
		}
		line := record.Line{At: at(e.At), Instance: e.Instance, Kind: e.Kind,
			Text: payload.Short(e.Text, longestRunLine)}
		l.bytes += len(line.Text)
		l.lines = append(l.lines, line)
	}
	return l.lines
}

// end returns all lines, the last of which says how many were not kept, where there are such.
func (l *runLog) end(at func(time.Time) clock.Time) []record.Line {
	l.upTo(at)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost > 0 {
		l.lines = append(l.lines, record.Line{At: at(time.Now()), Instance: "nightdrill", Kind: record.Noted,
			Text: fmt.Sprintf("%s not kept: a run keeps up to %d lines and %s of log output",
				count(l.lost), mostRunLines, "4 MiB")})
		l.lost = 0
	}
	return l.lines
}

// count returns how many lines were, for a sentence.
func count(n int) string {
	if n == 1 {
		return "1 line was"
	}
	return fmt.Sprintf("%d lines were", n)
}
