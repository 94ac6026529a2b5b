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

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/loader"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/transport"
)

// loaded is the way to a handler: the socket on which its loader connects, once for each slot.
type loaded struct {
	listener net.Listener
	path     string
	program  string // of the loader
	slots    int
	theirs   []*os.File   // the loader's ends of pipes, until it has been started
	conns    []loadedConn // by slot, once it is ready
	hello    transport.Hello
}

type loadedConn struct {
	conn transport.Link
	in   *bufio.Reader
}

// listen makes the socket on which a loader connects.
func (d *Runner) listen(fn *plan.Function) (*loaded, error) {
	program, err := loader.Path(fn.Handler.Language)
	if err != nil {
		return nil, err
	}
	x := &loaded{program: program, slots: max(fn.Limits.PerInstance, 1)}
	if fn.Handler.Language == plan.Java {
		return x, x.pipe()
	}
	sockets, number, err := d.folder()
	if err != nil {
		return nil, err
	}
	x.path = filepath.Join(sockets.Dir(), strconv.Itoa(number))
	if x.listener, err = net.Listen("unix", x.path); err != nil {
		return nil, err
	}
	return x, nil
}

// close releases what the loader was given.
func (x *loaded) close() {
	if x.listener != nil {
		_ = x.listener.Close()
		_ = os.Remove(x.path)
	}
	for _, c := range x.conns {
		if c.conn != nil {
			_ = c.conn.Close()
		}
	}
}

// pipe makes pipes for all slots, in place of connections.
func (x *loaded) pipe() error {
	x.path = "-"
	for range x.slots {
		ours, theirs, err := transport.NewPipes()
		if err != nil {
			x.close()
			for _, f := range x.theirs {
				_ = f.Close()
			}
			return err
		}
		x.conns = append(x.conns, loadedConn{ours, bufio.NewReaderSize(ours, 64<<10)})
		x.theirs = append(x.theirs, theirs...)
	}
	return nil
}

// arguments completes the command of a handler: the loader, the file and the name, the socket, the number of
// connections, and the form in which it gets its events.
func (x *loaded) arguments(args []string, fn *plan.Function) []string {
	at := slices.Index(args, plan.LoaderArgument)
	if at < 0 {
		return args
	}
	switch {
	case x.program == "": // it is in the executable, or the user's
		args = slices.Concat(args[:at], args[at+1:])
	case fn.Handler.Language == plan.Java:
		args = slices.Concat(loader.OnClassPath(args[:at], x.program, fn.Handler.File), args[at+1:])
	default:
		args = slices.Clone(args)
		args[at] = x.program
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
	conns := x.conns
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
	if x.listener != nil {
		if conns, err = l.accept(ctx); err != nil {
			return fail(err)
		}
	}
	x.conns = make([]loadedConn, x.slots)
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

// accept waits until the loader has connected for all slots.
func (l *launched) accept(ctx context.Context) (conns []loadedConn, err error) {
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
	for range x.slots {
		conn, err := x.listener.Accept()
		if err != nil {
			return conns, err
		}
		conns = append(conns, loadedConn{conn, bufio.NewReaderSize(conn, 64<<10)})
	}
	return conns, nil
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
