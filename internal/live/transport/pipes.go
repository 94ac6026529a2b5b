package transport

import (
	"errors"
	"os"
	"time"
)

// pipes are a link to a loader that gets descriptors, where a socket would cost its start too much.
type pipes struct{ in, out *os.File }

// NewPipes makes the pipes for one slot: our ends, and those that the loader reads and writes.
func NewPipes() (ours Link, theirs []*os.File, err error) {
	in, say, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	hear, out, err := os.Pipe()
	if err != nil {
		return nil, nil, errors.Join(err, in.Close(), say.Close())
	}
	return pipes{hear, say}, []*os.File{in, out}, nil
}

func (p pipes) Read(b []byte) (int, error)  { return p.in.Read(b) }
func (p pipes) Write(b []byte) (int, error) { return p.out.Write(b) }
func (p pipes) Close() error                { return errors.Join(p.in.Close(), p.out.Close()) }
func (p pipes) SetDeadline(t time.Time) error {
	return errors.Join(p.in.SetDeadline(t), p.out.SetDeadline(t))
}
