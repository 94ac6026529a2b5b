// Package proc runs the processes of instances: each a session of its own with
// standard input from /dev/null, its output kept line by line, bounded; ended
// by SIGTERM, a grace time and SIGKILL to all of its session.
package proc

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/programs"
)

// Command describes a process to start.
type Command struct {
	Args []string
	Dir  string
	Env  []string // added to the program's own environment
	// the command that ends what it leaves elsewhere, should the program be killed
	After []string
	Line  func(at time.Time, text string) `json:"-"` // gets every line of the output, harmless, where it is given

	Bounds Bounds // what it may use
	Leaves bool   // what it leaves when it ends well, such as a server, is wanted: [Ran.EndLeft] ends that
	Talk   bool   // standard input and output are for whoever started it; only standard error is a log
	// its descriptors from 3 on; Start closes them here, also where it fails
	Extra []*os.File `json:"-"`
}

// Process is a process that was started.
type Process struct {
	PID    int
	Began  time.Time // just before it was started
	Runs   time.Time // its exec has succeeded
	Output *Output
	In     *os.File      // standard input, where the command asked to talk
	Out    *os.File      // and its standard output
	exited chan struct{} // closed when the process itself has ended
	done   chan struct{} // closed when what it left behind is gone, too
	state  *os.ProcessState
	kill   sync.Once
	slot   *cgroupSlot // nil where nothing is bounded
	mark   string      // in the environment of its children
	birth  uint64      // its birthmark, which they have, too; 0 for none
	leaves bool        // what it leaves is wanted, when it ends well
	usage  Usage       // once it is gone
	seen   struct {
		sync.Mutex
		Usage // while it ran, as far as Sample saw
	}
}

// saw takes in what was seen of the process and its children.
func (p *Process) saw(u Usage) {
	p.seen.Lock()
	defer p.seen.Unlock()
	p.seen.Peak, p.seen.CPU = max(p.seen.Peak, u.Peak), max(p.seen.CPU, u.CPU)
}

func (p *Process) sawSoFar() Usage {
	p.seen.Lock()
	defer p.seen.Unlock()
	return p.seen.Usage
}

// spawner returns the thread that starts processes. The parent-death signal is
// sent when the thread that started a process ends, so it is one that never does.
var spawner = sync.OnceValue(func() chan<- func() {
	c := make(chan func())
	go func() {
		runtime.LockOSThread()
		adopt()
		base()
		turn(0, 0) // what it starts has turns as ever
		for f := range c {
			f()
		}
	}()
	return c
})

// children are the processes that were started here and are not waited for yet.
type children struct {
	mu  sync.Mutex
	pid map[int]bool
	// births is held while a process is started and not yet known here, and while this program has
	// the birthmark of what it starts: who locks it knows all of them.
	births sync.Mutex
}

var ours = children{pid: map[int]bool{}}

func (c *children) add(pid int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pid[pid] = true
}

func (c *children) remove(pid int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.pid, pid)
}

func (c *children) has(pid int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.pid[pid]
}

// Beside calls start, which starts a program that is not one of a project, such as an editor: it
// does not end with any of them.
func Beside(start func() error) error {
	ours.births.Lock()
	defer ours.births.Unlock()
	return start()
}

// each is the environment variable that tells the children of one process from
// those of others, also when they have left its session.
const each = "NIGHTDRILL_INSTANCE"

var marks atomic.Int64

// Start starts a command and returns once it runs (its exec succeeded).
func Start(c Command) (*Process, error) {
	theirs := c.Extra
	read, write, err := os.Pipe()
	if err != nil {
		closeAll(theirs)
		return nil, explain(c, err)
	}
	theirs = append(theirs[:len(theirs):len(theirs)], write)
	cmd := exec.Command(c.Args[0], c.Args[1:]...)
	p := &Process{Output: newOutput(c.Line, Mask(c.Env)), exited: make(chan struct{}), done: make(chan struct{}),
		leaves: c.Leaves}
	number := marks.Add(1)
	p.mark = fmt.Sprintf("%s=%d-%d", each, os.Getpid(), number)
	cmd.Dir = c.Dir
	cmd.Env = append(append(os.Environ(), c.Env...), p.mark)
	cmd.Env = append(cmd.Env, marked()...)
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = write, write, c.Extra
	if c.Talk {
		more, err := p.talk(cmd)
		if err != nil {
			closeAll(append(theirs, read))
			return nil, explain(c, err)
		}
		theirs = append(theirs, more...)
	}
	if p.slot, err = takeCgroupSlot(c.Bounds); err != nil {
		p.hangUp(append(theirs, read))
		return nil, err
	}
	if c.After != nil { // before it runs: it may have done something by the time that we hear of it
		text, _ := json.Marshal(Command{Args: c.After, Dir: c.Dir, Env: c.Env}) // plain data
		tell("before %s %s\n", p.mark, text)
	}
	started := make(chan time.Time, 1)
	var began time.Time
	p.slot.start(func(a *syscall.SysProcAttr) {
		cmd.SysProcAttr = a
		began = time.Now()
		ours.births.Lock()
		if p.birth, err = bear(number, cmd.Start); err == nil {
			ours.add(cmd.Process.Pid)
			tell("+%d\n", cmd.Process.Pid)
		}
		ours.births.Unlock()
		if c.After != nil {
			pid := 0
			if err == nil {
				pid = cmd.Process.Pid
			}
			tell("after %s %d\n", p.mark, pid)
		}
		started <- time.Now()
	})
	runs := <-started
	closeAll(theirs)
	if err != nil {
		p.hangUp([]*os.File{read})
		p.slot.close()
		return nil, explain(c, err)
	}
	p.PID, p.Began, p.Runs = cmd.Process.Pid, began, runs
	go p.Output.collect(read)
	go func() {
		p.watch(cmd)
		tell("-%d\n", p.PID)
		ours.remove(p.PID)
		close(p.done)
	}()
	return p, nil
}

// talk returns a command pipes for its standard input and output.
func (p *Process) talk(cmd *exec.Cmd) (theirs []*os.File, err error) {
	in, say, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	hear, out, err := os.Pipe()
	if err != nil {
		in.Close()
		say.Close()
		return nil, err
	}
	cmd.Stdin, cmd.Stdout, p.In, p.Out = in, out, say, hear
	return []*os.File{in, out}, nil
}

// HangUp closes the pipes of a process that no one will talk to.
func (p *Process) HangUp() { p.hangUp(nil) }

// hangUp closes our ends of the pipes of a command that did not start.
func (p *Process) hangUp(others []*os.File) {
	closeAll(append(others, p.In, p.Out))
}

// closeAll closes files; nil stands for none.
func closeAll(all []*os.File) {
	for _, f := range all {
		if f != nil {
			f.Close()
		}
	}
}

// watch waits for the process's end and sees to what it leaves behind.
func (p *Process) watch(cmd *exec.Cmd) {
	_ = cmd.Wait() // the state says how it ended
	close(p.exited)
	p.state = cmd.ProcessState
	if p.slot != nil {
		p.usage = p.slot.group.usage()
	}
	seen := p.sawSoFar()
	p.usage.Peak = max(p.usage.Peak, seen.Peak)
	if p.usage.CPU == 0 && p.state != nil {
		p.usage.CPU = max(p.state.UserTime()+p.state.SystemTime(), seen.CPU)
	}
	if !p.leaves || p.state == nil || !p.state.Success() {
		cleanUp(p.PID, p.mark, p.birth) // children that outlived it
	}
	p.slot.close()
}

// Used returns what the process and its children have used: so far, as its control group
// or the last Sample tells, or in all once it is gone.
func (p *Process) Used() Usage {
	select {
	case <-p.done:
		return p.usage
	default:
	}
	u := p.sawSoFar()
	if p.slot != nil {
		of := p.slot.group.usage()
		u.Killed = of.Killed
		if of.Peak > 0 {
			u.Peak = of.Peak
		}
		if of.CPU > 0 {
			u.CPU = of.CPU
		}
	}
	return u
}

// Park stops the process and its children in memory (SIGSTOP).
func (p *Process) Park() error {
	return syscall.Kill(-p.PID, syscall.SIGSTOP)
}

// Resume continues a parked process (SIGCONT).
func (p *Process) Resume() error {
	return syscall.Kill(-p.PID, syscall.SIGCONT)
}

// explain returns why a command could not be started, and what to do.
func explain(c Command, err error) error {
	name := c.Args[0]
	var p *fs.PathError
	if full := filesRunOut(err); full != nil {
		return fmt.Errorf("cannot start %s: %w", name, full)
	}
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fmt.Errorf("command not found: %q is not on the PATH%s", name, programs.Nearest(name))
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Stat(c.Dir); err != nil {
			return fmt.Errorf("no folder %s to start it in", c.Dir)
		}
		if interpreter := firstLine(name); interpreter != "" {
			return fmt.Errorf("the interpreter %s, which the first line of %s names, is missing", interpreter, name)
		}
		return fmt.Errorf("no file %s", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s is not executable; run chmod +x on it, or put the interpreter first", name)
	case errors.Is(err, syscall.ENOEXEC), errors.Is(err, syscall.Errno(0x56)) && runtime.GOOS == "darwin": // EBADARCH
		return fmt.Errorf("%s is not a program for this machine: built for another architecture, or a script without "+
			"an interpreter line", name)
	case errors.As(err, &p):
		return fmt.Errorf("cannot start %s: %w", name, p.Err)
	}
	return fmt.Errorf("cannot start %s: %w", name, err)
}

// firstLine returns the interpreter that a script requests.
func firstLine(name string) string {
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	line, _ := readLine(bufio.NewReaderSize(f, 512))
	interpreter, ok := strings.CutPrefix(line, "#!")
	if !ok {
		return ""
	}
	return text.Harmless(strings.TrimSpace(interpreter))
}

// Ran is how a command went that was run to its end.
type Ran struct {
	Took  time.Duration
	Lines []string // the last ones of its output
	Err   error    // nil when it exited with code 0
	p     *Process
}

// EndLeft ends what a command has left on purpose: it is asked to, and killed when a grace
// time is over.
func (r *Ran) EndLeft(grace time.Duration) {
	if r.p != nil {
		endLeft(r.p.PID, r.p.mark, r.p.birth, grace)
	}
}

// Run runs a command to its end, or to the end of the context.
func Run(ctx context.Context, c Command) Ran {
	began := time.Now()
	p, err := Start(c)
	if err != nil {
		return Ran{Err: err}
	}
	select {
	case <-p.Done():
	case <-ctx.Done():
		p.Stop(time.Second)
		<-p.Done()
	}
	p.lastWords()
	r := Ran{Took: time.Since(began), Lines: p.Output.Last(keptLines), p: p}
	switch {
	case ctx.Err() != nil:
		r.Err = fmt.Errorf("%s was interrupted after %v", c.Args[0], text.Measured(r.Took))
	case p.state == nil || !p.state.Success():
		r.Err = fmt.Errorf("%s %s", filepath.Base(c.Args[0]), p.How())
	}
	return r
}

// lastWords waits a little for what a process that is gone has written.
func (p *Process) lastWords() {
	t := time.NewTimer(100 * time.Millisecond)
	defer t.Stop()
	select {
	case <-p.Output.Ended():
	case <-t.C:
	}
}

// Gone waits until the process is gone and its output read.
func (p *Process) Gone() {
	<-p.done
	p.lastWords()
}

// Exited is closed when the process itself has ended; what it left behind may still be
// there.
func (p *Process) Exited() <-chan struct{} { return p.exited }

// Done is closed when the process and all of its session are gone.
func (p *Process) Done() <-chan struct{} { return p.done }

// How describes how the process ended, in words. It may be asked once Done is closed.
func (p *Process) How() string {
	if p.state == nil {
		return "ended, and the system does not report how"
	}
	ws, ok := p.state.Sys().(syscall.WaitStatus)
	if ok && ws.Signaled() {
		return fmt.Sprintf("killed by signal %d (%s)", ws.Signal(), ws.Signal())
	}
	return fmt.Sprintf("exited with code %d", p.state.ExitCode())
}

// Stop asks the process to end (SIGTERM), and kills all of its session when the grace time is over.
// It does not wait; Done is closed once the process has ended.
func (p *Process) Stop(grace time.Duration) {
	p.kill.Do(func() {
		_ = syscall.Kill(-p.PID, syscall.SIGTERM) // gone already is as good
		_ = syscall.Kill(-p.PID, syscall.SIGCONT) // what is parked hears of it only when it goes on
		go func() {
			t := time.NewTimer(grace)
			defer t.Stop()
			select {
			case <-p.done:
			case <-t.C:
				p.Kill()
			}
		}()
	})
}

// Kill ends the process and its session at once.
func (p *Process) Kill() {
	_ = syscall.Kill(-p.PID, syscall.SIGKILL)
	_ = syscall.Kill(p.PID, syscall.SIGKILL) // in a group of another number
	if p.slot != nil {
		p.slot.group.kill()
	}
	killSession(p.PID)
}

// Expand replaces {names} in arguments with values.
func Expand(args []string, pairs ...string) []string {
	for i := 0; i < len(pairs); i += 2 {
		pairs[i] = "{" + pairs[i] + "}"
	}
	r := strings.NewReplacer(pairs...)
	out := make([]string, len(args))
	for i, a := range args {
		out[i] = r.Replace(a)
	}
	return out
}

// Program returns the file of a program that is found on the PATH.
func Program(name string) string {
	path, err := exec.LookPath(name)
	if err != nil {
		return name
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		return real
	}
	return path
}
