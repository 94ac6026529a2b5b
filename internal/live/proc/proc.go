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
	"syscall"
	"time"

	"nightdrill/internal/core/near"
)

// Command says what to start.
type Command struct {
	Args  []string
	Dir   string
	Env   []string                        // added to the program's own environment
	After []string                        // the command that ends what it leaves elsewhere, should the program be killed
	Line  func(at time.Time, text string) `json:"-"` // gets every line of the output, harmless, where it is given
}

// Process is a process that was started.
type Process struct {
	PID    int
	Began  time.Time // just before it was started
	Runs   time.Time // its exec has succeeded
	Output *Output
	done   chan struct{}
	state  *os.ProcessState
	kill   sync.Once
}

// spawner gives the thread that starts processes. The parent-death signal is
// sent when the thread that started a process ends, so it is one that never does.
var spawner = sync.OnceValue(func() chan<- func() {
	c := make(chan func())
	go func() {
		runtime.LockOSThread()
		for f := range c {
			f()
		}
	}()
	return c
})

// Start starts a command and returns once it runs (its exec succeeded).
func Start(c Command) (*Process, error) {
	read, write, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("no pipe for the output: %w", err)
	}
	cmd := exec.Command(c.Args[0], c.Args[1:]...)
	cmd.Dir = c.Dir
	cmd.Env = append(append(os.Environ(), c.Env...), marked()...)
	cmd.Stdout, cmd.Stderr = write, write
	cmd.SysProcAttr = attributes()
	started := make(chan time.Time, 1)
	var began time.Time
	spawner() <- func() {
		began = time.Now()
		if err = cmd.Start(); err == nil {
			tell("+%d\n", cmd.Process.Pid)
			if c.After != nil {
				text, _ := json.Marshal(Command{Args: c.After, Dir: c.Dir, Env: c.Env}) // plain data
				tell("after %d %s\n", cmd.Process.Pid, text)
			}
		}
		started <- time.Now()
	}
	runs := <-started
	write.Close()
	if err != nil {
		read.Close()
		return nil, explain(c, err)
	}
	p := &Process{PID: cmd.Process.Pid, Began: began, Runs: runs, Output: newOutput(c.Line, Mask(c.Env)), done: make(chan struct{})}
	go p.Output.collect(read)
	go func() {
		_ = cmd.Wait() // the state says how it ended
		p.state = cmd.ProcessState
		killSession(p.PID) // children that outlived it
		tell("-%d\n", p.PID)
		close(p.done)
	}()
	return p, nil
}

// explain says why a command could not be started, and what to do.
func explain(c Command, err error) error {
	name := c.Args[0]
	var p *fs.PathError
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fmt.Errorf("command not found: %q is not on the PATH%s", name, NearestOnPath(name))
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Stat(c.Dir); err != nil {
			return fmt.Errorf("there is no folder %s to start it in", c.Dir)
		}
		if interpreter := firstLine(name); interpreter != "" {
			return fmt.Errorf("the interpreter %s, which the first line of %s names, is missing", interpreter, name)
		}
		return fmt.Errorf("there is no file %s", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s is not executable; chmod +x it, or name the interpreter first", name)
	case errors.Is(err, syscall.ENOEXEC), errors.Is(err, syscall.Errno(0x56)) && runtime.GOOS == "darwin": // EBADARCH
		return fmt.Errorf("%s is not a program for this machine: built for another architecture, or a script without an interpreter line", name)
	case errors.As(err, &p):
		return fmt.Errorf("%s cannot be started: %w", name, p.Err)
	}
	return fmt.Errorf("%s cannot be started: %w", name, err)
}

// NearestOnPath suggests a program whose name is close, or else what to do.
func NearestOnPath(name string) string {
	var names []string
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	if w := near.Word(name, names); w != "" {
		return "; did you mean " + w + "?"
	}
	return "; install it, or name the program with its path"
}

// firstLine gives the interpreter that a script asks for.
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
	return Harmless(strings.TrimSpace(interpreter))
}

// Ran is how a command went that was run to its end.
type Ran struct {
	Took  time.Duration
	Lines []string // the last ones of its output
	Err   error    // nil when it exited with code 0
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
	r := Ran{Took: time.Since(began), Lines: p.Output.Last(keptLines)}
	switch {
	case ctx.Err() != nil:
		r.Err = fmt.Errorf("%s was broken off after %v", c.Args[0], r.Took.Round(time.Millisecond))
	case !p.state.Success():
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

// Done is closed when the process and all of its session are gone.
func (p *Process) Done() <-chan struct{} { return p.done }

// How says how the process ended, in words. It may be asked once Done is closed.
func (p *Process) How() string {
	ws, ok := p.state.Sys().(syscall.WaitStatus)
	if ok && ws.Signaled() {
		return fmt.Sprintf("killed by signal %d (%s)", ws.Signal(), ws.Signal())
	}
	return fmt.Sprintf("exited with code %d", p.state.ExitCode())
}

// Stop asks the process to end, and ends all of its session when the grace time
// is over. It does not wait; Done tells.
func (p *Process) Stop(grace time.Duration) {
	p.kill.Do(func() {
		_ = syscall.Kill(-p.PID, syscall.SIGTERM) // gone already is as good
		go func() {
			t := time.NewTimer(grace)
			defer t.Stop()
			select {
			case <-p.done:
			case <-t.C:
				_ = syscall.Kill(-p.PID, syscall.SIGKILL)
				killSession(p.PID)
			}
		}()
	})
}

// Kill ends the process and its session at once.
func (p *Process) Kill() {
	_ = syscall.Kill(-p.PID, syscall.SIGKILL)
	killSession(p.PID)
}

// Expand puts values in the place of {names} in arguments.
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
