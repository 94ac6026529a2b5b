package proc

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Sockets is a folder for the Unix sockets of instances. It is told by the system
// when one is made there, so that looking costs nothing until then.
type Sockets struct {
	dir   string
	watch *fsnotify.Watcher
	mu    sync.Mutex
	due   map[string]*dueSocket
}

type dueSocket struct {
	ready  chan noticed
	forget chan struct{}
}

// NewSockets makes the folder. Paths of sockets are short (unix(7): 107 bytes),
// so it is where temporary files are.
func NewSockets() (*Sockets, error) {
	dir, err := os.MkdirTemp("", "nd")
	if err != nil {
		return nil, fmt.Errorf("no folder for sockets: %w", err)
	}
	w, err := fsnotify.NewWatcher()
	if err == nil {
		err = w.Add(dir)
	}
	if err != nil {
		_ = os.Remove(dir)
		return nil, fmt.Errorf("the folder for sockets cannot be watched: %w", err)
	}
	tell("folder %s\n", dir)
	s := &Sockets{dir: dir, watch: w, due: map[string]*dueSocket{}}
	go s.listen()
	return s, nil
}

// Dir returns the folder.
func (s *Sockets) Dir() string { return s.dir }

// Close removes the folder.
func (s *Sockets) Close() {
	s.watch.Close()
	_ = os.RemoveAll(s.dir)
}

// Expect returns the path of a socket of that number, and begins to look for a
// listener there.
func (s *Sockets) Expect(number int) (path string, e *Expected) {
	path = filepath.Join(s.dir, fmt.Sprint(number))
	d := &dueSocket{make(chan noticed, 1), make(chan struct{})}
	s.mu.Lock()
	s.due[path] = d
	s.mu.Unlock()
	return path, &Expected{socket: path, ready: d.ready, Forget: sync.OnceFunc(func() {
		s.mu.Lock()
		delete(s.due, path)
		s.mu.Unlock()
		close(d.forget)
	})}
}

func (s *Sockets) listen() {
	for e := range s.watch.Events {
		if !e.Has(fsnotify.Create) {
			continue
		}
		s.mu.Lock()
		d := s.due[e.Name]
		s.mu.Unlock()
		if d != nil {
			go d.knock(e.Name)
		}
	}
}

// knock connects until someone listens: a socket is made a moment before that.
func (d *dueSocket) knock(path string) {
	last := time.Now()
	tick := time.NewTicker(100 * time.Microsecond)
	defer tick.Stop()
	for {
		began := time.Now()
		if conn, err := net.DialTimeout("unix", path, time.Second); err == nil {
			at := time.Now()
			conn.Close()
			d.ready <- noticed{at, at.Sub(last)}
			return
		}
		last = began
		select {
		case <-tick.C:
		case <-d.forget:
			return
		}
	}
}
