package proc

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"os/signal"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"golang.org/x/sys/unix"
)

// The warden is this program, started again, to clean up when the program itself
// is killed: it ends what was started and restores the terminal. It is reported
// every process over a pipe, and acts when the pipe breaks off without a word of
// farewell. While it waits it also looks out for ports that are about to be
// listened on: it has nothing else to do, so that no garbage collection and no
// busy thread delays its looks.

// WardenCommand is the command under which the program is its own warden.
const WardenCommand = "warden"

// mark is the environment variable by which the warden finds what it was not
// informed of in time: every process that was started carries it, and passes it on.
const mark = "NIGHTDRILL_WARD"

var ward struct {
	sync.Mutex
	pipe    io.WriteCloser
	token   string
	waiting map[int]chan noticed // by port
	own     map[int]func()       // ends looks that were taken over from a warden that is gone
}

// Guard starts the warden. terminal, if given, is restored to its present state
// when the program is killed. farewell ends the warden in peace.
func Guard(terminal *os.File) (farewell func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	hear, say, err := os.Pipe()
	if err != nil {
		write.Close()
		return nil, err
	}
	cmd := exec.Command(self, WardenCommand)
	cmd.ExtraFiles = []*os.File{read, say}
	if terminal != nil {
		cmd.ExtraFiles = append(cmd.ExtraFiles, terminal)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = Beside(cmd.Start)
	say.Close()
	if err != nil {
		write.Close()
		hear.Close()
		return nil, fmt.Errorf("the warden does not start: %w", err)
	}
	// it saves the terminal's settings before anything changes them
	if _, err := hear.Read(make([]byte, 1)); err != nil {
		write.Close()
		hear.Close()
		return nil, fmt.Errorf("the warden does not answer: %w", err)
	}
	ward.Lock()
	defer ward.Unlock()
	ward.pipe, ward.token, ward.waiting = write, rand.Text(), map[int]chan noticed{}
	fmt.Fprintf(write, "token %s\nborn %d\n", ward.token, base())
	go listen(hear)
	return func() {
		ward.Lock()
		defer ward.Unlock()
		fmt.Fprintln(write, "farewell")
		write.Close()
		ward.pipe, ward.token = nil, ""
		_ = cmd.Wait() // whatever it says, it is gone
	}, nil
}

// listen takes in what the warden has seen.
func listen(hear *os.File) {
	defer hear.Close()
	lines := bufio.NewScanner(hear)
	for lines.Scan() {
		var port int
		var at, within int64
		if _, err := fmt.Sscanf(lines.Text(), "seen %d %d %d", &port, &at, &within); err != nil {
			continue
		}
		mono := monotonic() // first, so that a pause in between makes the time later, not earlier
		n := noticed{time.Now().Add(-time.Duration(mono - at)), time.Duration(within)}
		ward.Lock()
		if c := ward.waiting[port]; c != nil {
			c <- n
			delete(ward.waiting, port)
		}
		ward.Unlock()
	}
	ward.Lock()
	defer ward.Unlock()
	if ward.pipe == nil { // it was sent home
		return
	}
	// it was killed: no one cleans up after us then, but we can look ourselves
	ward.pipe.Close()
	ward.pipe = nil
	ward.own = map[int]func(){}
	for port, c := range ward.waiting {
		var ready <-chan noticed
		ready, ward.own[port] = awaitPort(port)
		go func() { c <- <-ready }()
	}
	clear(ward.waiting)
}

// lookOut makes the warden look for a port; ok is false when there is no warden.
func lookOut(port int) (ready <-chan noticed, forget func(), ok bool) {
	ward.Lock()
	defer ward.Unlock()
	if ward.pipe == nil {
		return nil, nil, false
	}
	c := make(chan noticed, 1)
	ward.waiting[port] = c
	fmt.Fprintf(ward.pipe, "look %d\n", port)
	return c, func() {
		ward.Lock()
		delete(ward.waiting, port)
		if stop := ward.own[port]; stop != nil {
			stop()
			delete(ward.own, port)
		}
		ward.Unlock()
		tell("forget %d\n", port)
	}, true
}

// monotonic is the machine's monotonic clock, the same in every process, in ns.
func monotonic() int64 {
	var ts unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_MONOTONIC, &ts) // it always is there
	return ts.Nano()
}

// tell writes a line to the warden; without a warden nothing happens.
func tell(format string, args ...any) {
	ward.Lock()
	defer ward.Unlock()
	if ward.pipe != nil {
		fmt.Fprintf(ward.pipe, format, args...)
	}
}

// marked returns the environment that every process gets beside its own.
func marked() []string {
	ward.Lock()
	defer ward.Unlock()
	if ward.token == "" {
		return nil
	}
	return []string{mark + "=" + ward.token}
}

// What leaves the alternate screen, shows the cursor, and ends mouse reports,
// bracketed paste, held-back output and key reports (xterm's control sequences).
const sane = "\x1b[?2026l\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l" +
	"\x1b[?1006l\x1b[?1004l\x1b[?2004l\x1b[=0;1u\x1b[>4m\x1b[0m"

// Warden is the warden's whole life. Its descriptors are 3, the pipe; 4, on
// which it says that it is there; and 5, the terminal, if there is one.
func Warden() {
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGTTOU)
	terminal := os.NewFile(5, "terminal")
	state, err := term.GetState(5)
	if err != nil {
		terminal = nil
	}
	say := os.NewFile(4, "say")
	_, _ = say.Write([]byte{1})
	debug.SetGCPercent(-1) // it needs next to nothing
	debug.SetMemoryLimit(32 << 20)

	var groups, folders []string // control groups; folders of sockets
	born := uint64(0)            // the birthmark of the program
	token, wards, looks, afters := "", map[int]bool{}, map[int]func(){}, map[int]Command{}
	befores := map[string]Command{} // of processes that are being started
	lines := bufio.NewScanner(os.NewFile(3, "pipe"))
	lines.Buffer(nil, 4<<20) // commands have environments
	for lines.Scan() {
		line := lines.Text()
		switch {
		case line == "farewell":
			return
		case strings.HasPrefix(line, "token "):
			token = strings.TrimPrefix(line, "token ")
		case strings.HasPrefix(line, "born "):
			born, _ = strconv.ParseUint(line[len("born "):], 10, 64)
		case strings.HasPrefix(line, "group "):
			groups = append(groups, line[len("group "):])
		case strings.HasPrefix(line, "folder "):
			folders = append(folders, line[len("folder "):])
		case strings.HasPrefix(line, "look "):
			if port, err := strconv.Atoi(line[len("look "):]); err == nil {
				looks[port] = report(say, port)
			}
		case strings.HasPrefix(line, "forget "):
			if port, err := strconv.Atoi(line[len("forget "):]); err == nil && looks[port] != nil {
				looks[port]()
				delete(looks, port)
			}
		case strings.HasPrefix(line, "before "):
			key, text, _ := strings.Cut(line[len("before "):], " ")
			var c Command
			if json.Unmarshal([]byte(text), &c) == nil {
				befores[key] = c
			}
		case strings.HasPrefix(line, "after "): // the process runs, or was never started
			key, pid, _ := strings.Cut(line[len("after "):], " ")
			if n, err := strconv.Atoi(pid); err == nil && n > 0 {
				afters[n] = befores[key]
			}
			delete(befores, key)
		default:
			if pid, err := strconv.Atoi(strings.TrimLeft(line, "+-")); err == nil {
				if wards[pid] = true; line[0] == '-' {
					delete(wards, pid)
					delete(afters, pid)
				}
			}
		}
	}
	if terminal != nil {
		_ = term.Restore(5, state)
		_, _ = terminal.WriteString(sane)
	}
	for range 3 { // what forks meanwhile is found the next time
		for pid := range wards {
			_ = syscall.Kill(-pid, syscall.SIGKILL)
			_ = syscall.Kill(pid, syscall.SIGKILL)
			killSession(pid)
		}
		killMarked(mark + "=" + token)
		killBorn(born)
		time.Sleep(20 * time.Millisecond)
	}
	removeTrees(groups)
	for _, dir := range folders {
		_ = os.RemoveAll(dir)
	}
	var all sync.WaitGroup
	// what runs elsewhere, such as a container
	for _, c := range slices.AppendSeq(slices.Collect(maps.Values(befores)), maps.Values(afters)) {
		all.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), afterwards)
			defer cancel()
			cmd := exec.CommandContext(ctx, c.Args[0], c.Args[1:]...)
			cmd.Dir, cmd.Env = c.Dir, append(os.Environ(), c.Env...)
			_ = cmd.Run() // no one is left to be told
		})
	}
	all.Wait()
}

// afterwards is how long each command may take that ends what runs elsewhere.
const afterwards = 10 * time.Second

// report writes when the port is listened on. The returned function ends that.
func report(say io.Writer, port int) (forget func()) {
	ready, stop := awaitPort(port)
	gone := make(chan struct{})
	go func() {
		select {
		case n := <-ready:
			since := time.Since(n.at)
			fmt.Fprintf(say, "seen %d %d %d\n", port, monotonic()-int64(since), int64(n.within))
		case <-gone:
		}
	}()
	return func() {
		stop()
		close(gone)
	}
}

// Guarded reports whether a warden watches over this program, which then may have processes
// to end.
func Guarded() bool {
	ward.Lock()
	defer ward.Unlock()
	return ward.pipe != nil
}
