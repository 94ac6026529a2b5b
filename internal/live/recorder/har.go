// Package recorder keeps what passes: a HAR 1.2 archive that is valid after every
// entry (har.go), and a reverse proxy that writes one (proxy.go).
package recorder

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"nightdrill.dev/internal/core/payload"
)

// Archive is a HAR file that is written to. It is complete after each entry.
type Archive struct {
	mu       sync.Mutex
	file     *os.File
	end      int64 // where the next entry goes
	Entries  int
	Repaired int64 // bytes of an entry that was cut off when it was opened
}

// Open opens an archive, new or to be gone on with. One whose writing was broken
// off is fixed: what is left of its last entry is dropped.
func Open(path string) (*Archive, error) {
	a := &Archive{}
	return a, open(path, func(f *os.File) error {
		a.file = f
		return a.repair()
	})
}

// open opens a recording, new or to be appended to, which repair makes whole.
func open(path string, repair func(*os.File) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	if err := repair(f); err != nil {
		_ = f.Close() // the first error counts
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// fix finds the end of the last whole entry, and ends the archive there.
func (a *Archive) repair() error {
	size, err := a.file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	begin := int64(len(payload.HARBegin))
	if size == 0 {
		if _, err := a.file.WriteAt([]byte(payload.HARBegin+payload.HAREnd), 0); err != nil {
			return err
		}
		a.end = begin
		return nil
	}
	head := make([]byte, begin)
	n, err := a.file.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if !bytes.HasPrefix([]byte(payload.HARBegin), head[:n]) {
		return errors.New("not a recording of Night Drill's; it is left as it is. Choose another name")
	}
	a.end = begin
	if n == len(head) {
		in := bufio.NewReaderSize(io.NewSectionReader(a.file, begin, size-begin), 1<<20)
		for at := begin; ; {
			line, err := in.ReadBytes('\n')
			at += int64(len(line))
			entry := bytes.TrimSuffix(bytes.TrimSpace(line), []byte(","))
			if len(entry) > 0 && entry[0] == '{' && json.Valid(entry) {
				a.end = at - int64(len(line)-len(bytes.TrimRight(line, "\n,")))
				a.Entries++
			}
			if err != nil {
				break
			}
		}
	}
	if want := a.end + int64(len(payload.HAREnd)); want != size {
		a.Repaired = max(size-a.end, 0)
	}
	if _, err := a.file.WriteAt([]byte(payload.HARBegin), 0); err != nil {
		return err
	}
	if _, err := a.file.WriteAt([]byte(payload.HAREnd), a.end); err != nil {
		return err
	}
	return a.file.Truncate(a.end + int64(len(payload.HAREnd)))
}

// Append adds an entry, which is one line of JSON.
func (a *Archive) Append(entry []byte) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	text := make([]byte, 0, len(entry)+16)
	if a.Entries > 0 {
		text = append(text, ",\n"...)
	}
	text = append(text, entry...)
	length := int64(len(text))
	if _, err := a.file.WriteAt(append(text, payload.HAREnd...), a.end); err != nil {
		return err
	}
	a.end += length
	a.Entries++
	return nil
}

// Count returns how many entries there are.
func (a *Archive) Count() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.Entries
}

// Close closes the file. One without any entry is removed: it is not a recording.
func (a *Archive) Close() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	err := a.file.Close()
	if a.Entries == 0 && err == nil {
		err = os.Remove(a.file.Name())
	}
	return err
}
