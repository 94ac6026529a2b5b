package proc

import (
	"bufio"
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
)

// The warden is this program, started again, with the one task to clean up when
// the program itself is killed: it ends what was started and restores the
// terminal. It is told of every process over a pipe, and acts when the pipe
// breaks off without a word of farewell.

// WardenCommand is the command under which the program is its own warden.
const WardenCommand = "warden"

// mark is the environment variable by which the warden finds what it was not
// told of in time: every process that was started carries it, and passes it on.
const mark = "NIGHTDRILL_WARD"

var ward struct {
	sync.Mutex
	pipe  io.WriteCloser
	token string
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
	defer hear.Close()
	cmd := exec.Command(self, WardenCommand)
	cmd.ExtraFiles = []*os.File{read, say}
	if terminal != nil {
		cmd.ExtraFiles = append(cmd.ExtraFiles, terminal)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	say.Close()
	if err != nil {
		write.Close()
		return nil, fmt.Errorf("the warden does not start: %w", err)
	}
	// it looks at the terminal before anybody changes that
	if _, err := hear.Read(make([]byte, 1)); err != nil {
		write.Close()
		return nil, fmt.Errorf("the warden does not answer: %w", err)
	}
	ward.Lock()
	defer ward.Unlock()
	ward.pipe, ward.token = write, rand.Text()
	fmt.Fprintf(write, "token %s\n", ward.token)
	return func() {
		ward.Lock()
		defer ward.Unlock()
		fmt.Fprintln(write, "farewell")
		write.Close()
		ward.pipe, ward.token = nil, ""
		_ = cmd.Wait() // whatever it says, it is gone
	}, nil
}

// tell gives the warden a line; without a warden nothing happens.
func tell(format string, args ...any) {
	ward.Lock()
	defer ward.Unlock()
	if ward.pipe != nil {
		fmt.Fprintf(ward.pipe, format, args...)
	}
}

// marked gives the environment that every process gets beside its own.
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
const sane = "\x1b[?2026l\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[?1004l\x1b[?2004l\x1b[=0;1u\x1b[>4m\x1b[0m"

// Warden is the warden's whole life. Its descriptors are 3, the pipe; 4, on
// which it says that it is there; and 5, the terminal, if there is one.
func Warden() {
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGTTOU)
	terminal := os.NewFile(5, "terminal")
	state, err := term.GetState(5)
	if err != nil {
		terminal = nil
	}
	here := os.NewFile(4, "here")
	_, _ = here.Write([]byte{1})
	here.Close()

	token, wards := "", map[int]bool{}
	lines := bufio.NewScanner(os.NewFile(3, "pipe"))
	for lines.Scan() {
		line := lines.Text()
		switch {
		case line == "farewell":
			return
		case strings.HasPrefix(line, "token "):
			token = strings.TrimPrefix(line, "token ")
		default:
			if pid, err := strconv.Atoi(strings.TrimLeft(line, "+-")); err == nil {
				if wards[pid] = true; line[0] == '-' {
					delete(wards, pid)
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
		time.Sleep(20 * time.Millisecond)
	}
}
