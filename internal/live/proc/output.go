package proc

import (
	"bufio"
	"io"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/text"
)

const (
	keptLines  = 200
	lineLength = 4096 // bytes of a line that are kept
)

// Output is the last lines that a process wrote, on standard output and
// standard error together.
type Output struct {
	mu    sync.Mutex
	lines []string // a ring once it is full
	next  int
	watch *regexp.Regexp
	found chan noticed
	ended chan struct{}
	line  func(at time.Time, text string)
	mask  func(string) string
}

func newOutput(line func(time.Time, string), mask func(string) string) *Output {
	return &Output{ended: make(chan struct{}), line: line, mask: mask}
}

// Watch returns a channel that tells once when a line matches, now or earlier.
func (o *Output) Watch(re *regexp.Regexp) <-chan noticed {
	o.mu.Lock()
	defer o.mu.Unlock()
	found := make(chan noticed, 1)
	for _, line := range o.lines {
		if re.MatchString(line) {
			found <- noticed{at: time.Now()}
			return found
		}
	}
	o.watch, o.found = re, found
	return found
}

// Last returns the last n lines, with nothing in them that a terminal would obey.
func (o *Output) Last(n int) []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []string
	for i := range o.lines {
		out = append(out, text.Harmless(o.lines[(o.next+i)%len(o.lines)]))
	}
	return out[max(0, len(out)-n):]
}

// Forget drops what is kept.
func (o *Output) Forget() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.lines, o.next = nil, 0
}

// Ended is closed when all writers of the output are gone.
func (o *Output) Ended() <-chan struct{} { return o.ended }

func (o *Output) collect(from *os.File) {
	defer close(o.ended)
	defer from.Close()
	r := bufio.NewReaderSize(from, 64<<10)
	for {
		line, err := readLine(r)
		if line != "" || err == nil {
			o.add(line)
		}
		if err != nil {
			return
		}
	}
}

// readLine reads a line; what is longer than lineLength is dropped.
func readLine(r *bufio.Reader) (string, error) {
	var kept []byte
	for {
		part, err := r.ReadSlice('\n')
		if room := lineLength - len(kept); room > 0 {
			kept = append(kept, part[:min(room, len(part))]...)
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err != nil && err != io.EOF {
			err = io.EOF // the other end is gone
		}
		return strings.TrimRight(string(kept), "\r\n"), err
	}
}

func (o *Output) add(line string) {
	if o.mask != nil {
		line = o.mask(line)
	}
	if o.line != nil {
		o.line(time.Now(), text.Harmless(line))
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.lines) < keptLines {
		o.lines = append(o.lines, line)
	} else {
		o.lines[o.next] = line
		o.next = (o.next + 1) % keptLines
	}
	if o.watch != nil && o.watch.MatchString(line) {
		o.found <- noticed{at: time.Now()}
		o.watch = nil
	}
}
