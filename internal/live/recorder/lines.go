package recorder

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"sync"
)

// Lines is a recording of events, one line of JSON for each. What was appended is in the file after Flush.
type Lines struct {
	mu       sync.Mutex
	file     *os.File
	buffer   []byte
	Entries  int
	Repaired int64 // bytes of a line that was cut off when it was opened
}

const (
	linesBuffer = 1 << 20
	largestLine = 64 << 20
)

// OpenLines opens a recording, new or to be appended to. What is left of a last line that was cut off is dropped.
func OpenLines(path string) (*Lines, error) {
	l := &Lines{}
	return l, open(path, func(f *os.File) error {
		l.file = f
		return l.repair()
	})
}

// repair counts the lines, and cuts off what follows the last whole one.
func (l *Lines) repair() error {
	content := make([]byte, 1<<20)
	at, whole := int64(0), int64(0) // of the file; where the last line ends
	var first []byte
	for {
		n, err := l.file.Read(content)
		if l.Entries == 0 && len(first) < largestLine {
			first = append(first, content[:n]...)
		}
		for from := 0; ; {
			i := bytes.IndexByte(content[from:n], '\n')
			if i < 0 {
				break
			}
			if from += i + 1; l.Entries == 0 {
				if line := first[:bytes.IndexByte(first, '\n')]; !json.Valid(line) {
					return errors.New("not a recording of events as JSON lines; it is left as it is. Choose " +
						"another name")
				}
			}
			l.Entries++
			whole = at + int64(from)
		}
		at += int64(n)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if whole == 0 && at > 0 {
		return errors.New("not a recording of events as JSON lines; it is left as it is. Choose another name")
	}
	l.Repaired = at - whole
	if err := l.file.Truncate(whole); err != nil {
		return err
	}
	_, err := l.file.Seek(whole, io.SeekStart)
	return err
}

// Append adds a line that append writes to the end of a buffer.
func (l *Lines) Append(write func([]byte) []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	before := len(l.buffer)
	l.buffer = write(l.buffer)
	if line := l.buffer[before:]; bytes.IndexByte(line, '\n') >= 0 || bytes.IndexByte(line,
		'\r') >= 0 { // between values: within them they are escaped
		var one bytes.Buffer
		if err := json.Compact(&one, line); err != nil {
			l.buffer = l.buffer[:before]
			return err
		}
		l.buffer = append(l.buffer[:before], one.Bytes()...)
	}
	l.buffer = append(l.buffer, '\n')
	l.Entries++
	if len(l.buffer) < linesBuffer {
		return nil
	}
	return l.flush()
}

// Flush writes what was appended.
func (l *Lines) Flush() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.flush()
}

func (l *Lines) flush() error {
	if len(l.buffer) == 0 {
		return nil
	}
	_, err := l.file.Write(l.buffer)
	l.buffer = l.buffer[:0]
	return err
}

// Count returns how many events there are.
func (l *Lines) Count() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.Entries
}

// Close writes what is left and closes the file. One without any event is removed: it is not a recording.
func (l *Lines) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	err := errors.Join(l.flush(), l.file.Close())
	if l.Entries == 0 && err == nil {
		err = os.Remove(l.file.Name())
	}
	return err
}
