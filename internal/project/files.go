package project

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// What is read has bounds, in bytes; a project file has others besides, since what reads YAML
// takes time with the square of what is in it.
const (
	mostProject   = 1 << 20
	mostLines     = 10_000
	mostLine      = 16 << 10
	mostNested    = 100
	mostSchema    = 32 << 20 // of schemas, API descriptions and templates
	mostRecording = 1 << 30
)

// ReadFile reads a file that has at most so many bytes. Anything but a file, such as a pipe, is
// refused: it may never end.
func ReadFile(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	no := func(format string, args ...any) error {
		return &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf(format, args...)}
	}
	switch mode := info.Mode(); {
	case mode.IsDir():
		return nil, no("it is a folder, not a file")
	case mode&fs.ModeNamedPipe != 0:
		return nil, no("it is a pipe, not a file")
	case !mode.IsRegular():
		return nil, no("it is a device or a socket, not a file")
	case info.Size() > most:
		return nil, no("it has %d MiB; the limit is %d MiB", info.Size()>>20, most>>20)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, most+1)) // it may have grown
	if err == nil && int64(len(text)) > most {
		err = no("it has more than %d MiB, which is the limit", most>>20)
	}
	return text, err
}

// tooMuch returns the place where YAML exceeds a bound, and which; its text is "" where it does not.
func tooMuch(text []byte) Mistake {
	open, n := 0, 0
	for line := range bytes.Lines(text) {
		n++
		deepest := 0
		for _, c := range line {
			switch c {
			case '[', '{':
				open++
				deepest = max(deepest, open)
			case ']', '}':
				open = max(open-1, 0)
			}
		}
		m := Mistake{File: File, Line: n, Column: 1}
		switch indent := len(line) - len(bytes.TrimLeft(line, " ")); {
		case n > mostLines:
			m.Text = fmt.Sprintf("it has more than %d lines, which is the limit", mostLines)
		case len(line) > mostLine:
			m.Text = fmt.Sprintf("the line has %d bytes; the limit is %d", len(line), mostLine)
		case deepest > mostNested || indent > 4*mostNested:
			m.Text = fmt.Sprintf("it is nested more than %d levels deep, which is the limit", mostNested)
		default:
			continue
		}
		return m
	}
	return Mistake{}
}

type progressKey struct{}

// WithProgress returns a context in which what works for long says how far it is.
func WithProgress(ctx context.Context, say func(string)) context.Context {
	return context.WithValue(ctx, progressKey{}, say)
}

// progress returns what hears how far something is, in a context.
func progress(ctx context.Context) func(string) {
	if say, ok := ctx.Value(progressKey{}).(func(string)); ok {
		return say
	}
	return func(string) {}
}

// cut is why reading a project was interrupted: it was told to.
type cut struct {
	at  string // how far it was
	err error
}

func (c *cut) Error() string { return "interrupted: " + c.at }
func (c *cut) Unwrap() error { return c.err }

// going notes how far reading is, and reports whether it goes on.
func (l *loader) going(format string, args ...any) bool {
	if l.cut == nil {
		at := fmt.Sprintf(format, args...)
		if l.say(at); l.ctx.Err() != nil {
			l.cut = &cut{at, l.ctx.Err()}
		}
	}
	return l.cut == nil
}
