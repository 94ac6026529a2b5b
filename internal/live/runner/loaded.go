package runner

import (
	"bufio"
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/loader"
	"nightdrill/internal/live/proc"
	"nightdrill/internal/live/transport"
)

// loaded is the way to a handler: the socket on which its loader connects, once for each slot.
type loaded struct {
	listener net.Listener
	path     string
	program  string // of the loader
	slots    int
	conns    []loadedConn // by slot, once it is ready
	hello    transport.Hello
	close    func()
}

type loadedConn struct {
	conn net.Conn
	in   *bufio.Reader
}

// listen makes the socket on which a loader connects.
func (d *Runner) listen(fn *plan.Function) (*loaded, error) {
	program, err := loader.Path(fn.Handler.Language)
	if err != nil {
		return nil, err
	}
	sockets, number, err := d.folder()
	if err != nil {
		return nil, err
	}
	x := &loaded{path: filepath.Join(sockets.Dir(), strconv.Itoa(number)), program: program,
		slots: max(fn.Limits.PerInstance, 1)}
	if x.listener, err = net.Listen("unix", x.path); err != nil {
		return nil, err
	}
	x.close = func() {
		_ = x.listener.Close()
		_ = os.Remove(x.path)
		for _, c := range x.conns {
			if c.conn != nil {
				_ = c.conn.Close()
			}
		}
	}
	return x, nil
}

// arguments completes the command of a handler: the loader, the file and the name, the socket, the number of
// connections, and the form in which it gets its events.
func (x *loaded) arguments(args []string, fn *plan.Function) []string {
	at := slices.Index(args, plan.LoaderArgument)
	if at < 0 {
		return args
	}
	args = slices.Clone(args)
	if args[at] = x.program; x.program == "" { // it is in the executable
		args = slices.Delete(args, at, at+1)
	}
	return append(args, x.path, strconv.Itoa(x.slots), fn.Handler.Takes.String())
}

// loadError is why a handler was not loaded.
type loadError struct {
	*transport.HandlerError
	dir string
}

func (e *loadError) Error() string { return e.Words(e.dir) }

// awaitHello waits until the loader has connected for all slots and has loaded the handler, and returns when
// that was: the moment at which the first of them said so.
func (l *launched) awaitHello(ctx context.Context, fn *plan.Function) (at time.Time, err error) {
	x := l.loader
	stop := context.AfterFunc(ctx, func() { _ = x.listener.Close() })
	defer stop()
	gone := make(chan struct{})
	defer close(gone)
	go func() {
		select {
		case <-l.process.Done():
			_ = x.listener.Close()
		case <-gone:
		}
	}()
	var conns []loadedConn
	fail := func(err error) (time.Time, error) {
		for _, c := range conns {
			_ = c.conn.Close()
		}
		switch {
		case ctx.Err() != nil:
			return at, ctx.Err()
		case errors.As(err, new(*loadError)):
			return at, err
		}
		<-l.process.Done() // its end says more than that of the connection
		return at, proc.ErrEnded
	}
	x.conns = make([]loadedConn, x.slots)
	for range x.slots {
		conn, err := x.listener.Accept()
		if err != nil {
			return fail(err)
		}
		conns = append(conns, loadedConn{conn, bufio.NewReaderSize(conn, 64<<10)})
	}
	// what the process does not say for so long is not awaited when it has ended
	end := context.AfterFunc(ctx, func() {
		for _, c := range conns {
			_ = c.conn.SetDeadline(time.Unix(1, 0))
		}
	})
	defer end()
	for i, c := range conns {
		hello, err := transport.ReadHello(c.in)
		if i == 0 {
			at = time.Now()
		}
		if err == nil && hello.Error != nil {
			err = &loadError{hello.Error, fn.Dir}
		}
		if err != nil {
			return fail(err)
		}
		if hello.Slot < 0 || hello.Slot >= len(x.conns) || x.conns[hello.Slot].conn != nil {
			return fail(errors.New("the loader's connections have wrong numbers"))
		}
		x.conns[hello.Slot], x.hello = c, hello
	}
	return at, nil
}

// awaitReady waits until a process is ready: until its loader says so, or its condition holds.
func (l *launched) awaitReady(ctx context.Context, fn *plan.Function) (at time.Time, within time.Duration, err error) {
	if l.loader != nil {
		at, err = l.awaitHello(ctx, fn)
		return at, 0, err
	}
	return l.process.WaitReady(ctx, fn.Ready, l.expected)
}

// carrierOf returns what carries the invocations of a slot of a handler.
func (in *instance) carrierOf(slot int32) transport.Carrier {
	x := in.loader
	if int(slot) >= len(x.conns) {
		return transport.NoSlot(len(x.conns))
	}
	f := transport.NewFrames(x.conns[slot].conn, x.conns[slot].in, in.fn, in.name)
	f.Keep = in.d.recorder.keepsReplies()
	return f
}
