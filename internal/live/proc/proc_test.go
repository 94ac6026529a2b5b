package proc

import (
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

func start(t *testing.T, script string) *Process {
	t.Helper()
	p, err := Start(Command{Args: []string{"sh", "-c", script}, Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Kill)
	return p
}

// said waits until the output holds a line.
func said(t *testing.T, p *Process, line string) {
	t.Helper()
	select {
	case <-p.Output.Watch(regexp.MustCompile(line)):
	case <-time.After(2 * time.Minute):
		t.Fatalf("never said %q; %q", line, p.Output.Last(5))
	}
}

// gone waits until a process is gone, or a zombie that no one reaps.
func gone(t *testing.T, pid int) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); syscall.Kill(pid, 0) == nil; runtime.Gosched() {
		if text, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat"); err == nil &&
			strings.Contains(string(text), ") Z ") {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("process %d still runs", pid)
		}
	}
}

// What ignores SIGTERM is killed after its grace time, with its children, also
// those that left its process group.
func TestStopEndsTheWholeSession(t *testing.T) {
	script := `trap '' TERM; sleep 1000 & set -m; sleep 1001 & echo "children $(jobs -p | tr '\n' ' ')"; while :; ` +
		`do sleep 0.1; done`
	p := start(t, script)
	said(t, p, "children")
	p.Stop(50 * time.Millisecond)
	<-p.Done()
	if how := p.How(); !strings.Contains(how, "killed by signal 9") {
		t.Errorf("ended as %q", how)
	}
	for _, f := range strings.Fields(strings.Join(p.Output.Last(1), " "))[1:] {
		if pid, err := strconv.Atoi(f); err == nil {
			gone(t, pid)
		}
	}
}

// That a process ends is seen before anybody is told, and not of one that runs.
func TestAnEndIsSeen(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("seen only on Linux")
	}
	p := start(t, "echo runs; sleep 1000")
	said(t, p, "runs")
	if p.Ending() {
		t.Error("it runs")
	}
	p.Kill()
	<-p.Exited()
	if !p.Ending() {
		t.Error("it has ended")
	}
}

// Children do not outlive a process that ends by itself.
func TestAChildThatOutlivesItsParentIsEnded(t *testing.T) {
	p := start(t, `sleep 1000 & echo "child $!"; exit 4`)
	<-p.Done()
	if p.How() != "exited with code 4" {
		t.Errorf("ended as %q", p.How())
	}
	<-p.Output.Ended()
	pid, _ := strconv.Atoi(strings.TrimPrefix(p.Output.Last(1)[0], "child "))
	gone(t, pid)
}

// A flood of output, endless lines and control sequences cost bounded memory
// and reach no one's terminal.
func TestOutputIsBoundedAndHarmless(t *testing.T) {
	p := start(t, `head -c 30000000 /dev/zero | tr '\0' x; echo; yes line | head -n 100000; printf '\033[2Jend\007\n'`)
	<-p.Done()
	<-p.Output.Ended()
	lines := p.Output.Last(1 << 20)
	if n := len(lines); n != keptLines {
		t.Errorf("%d lines are kept, want %d", n, keptLines)
	}
	if last := lines[len(lines)-1]; last != "·[2Jend·" {
		t.Errorf("the last line is %q", last)
	}
}

func TestWhatCannotBeStartedSaysWhy(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for path, want := range map[string]string{
		"no-such-command":                          "not on the PATH",
		filepath.Join(dir, "nothing"):              "no file",
		write("plain", "#!/bin/sh\n", 0o644):       "not executable",
		write("odd", "#!/no/interpreter\n", 0o755): "the interpreter /no/interpreter, which the first line of",
		write("alien", "\x7fELF\x02\x01\x01 not for this machine, nor any other", 0o755): "cannot be started",
	} {
		if _, err := Start(Command{Args: []string{path}, Dir: dir}); err == nil || !strings.Contains(err.Error(),
			want) && !strings.Contains(err.Error(), "not a program for this machine") {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
}

func TestPortsAreGivenOnce(t *testing.T) {
	seen := map[int]bool{}
	for range 200 {
		port, err := FreePort()
		if err != nil || seen[port] {
			t.Fatalf("port %d again, or %v", port, err)
		}
		seen[port] = true
	}
	for port := range seen {
		GiveBack(port)
	}
}
