package proc

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// runaway is a shell script that starts something in a session of its own, with an empty
// environment, and forgets it; its number is in a file.
const runaway = `env -i $(command -v setsid) -f sh -c 'echo $$ > pid.new; mv pid.new %s; exec sleep 1000' ` +
	`>/dev/null 2>&1
until [ -e %[1]s ]; do sleep 0.01; done; `

func numberIn(t *testing.T, path string) int {
	t.Helper()
	text, err := os.ReadFile(path)
	pid, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || pid == 0 {
		t.Fatalf("%s holds %q, %v", path, text, err)
	}
	return pid
}

// What leaves its session and its environment behind is ended with the process that started
// it; what others have started, as an editor does, is not.
func TestRunawaysAreEnded(t *testing.T) {
	dir := t.TempDir()
	other := exec.Command("sh", "-c", fmt.Sprintf(runaway, "other"))
	other.Dir = dir
	base()
	if out, err := other.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	stranger := numberIn(t, filepath.Join(dir, "other"))
	defer syscall.Kill(stranger, syscall.SIGKILL) //nolint:errcheck // it may be gone
	for _, end := range []string{"exit 0", "sleep 1000"} {
		p, err := Start(Command{Args: []string{"sh", "-c", fmt.Sprintf(runaway, "mine") + "echo laid; " + end},
			Dir: dir})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(p.Kill)
		said(t, p, "laid")
		pid := numberIn(t, filepath.Join(dir, "mine"))
		if err := os.Remove(filepath.Join(dir, "mine")); err != nil {
			t.Fatal(err)
		}
		p.Stop(time.Second)
		<-p.Done()
		gone(t, pid)
	}
	if err := syscall.Kill(stranger, 0); err != nil {
		t.Errorf("what another started: %v", err)
	}
}

// A process has its birthmark when it first looks; this program has its own before and after, and
// what it starts beside has that.
func TestABirthmarkIsThereFromTheFirstMoment(t *testing.T) {
	if base() == 0 {
		t.Skip("no birthmarks here")
	}
	const look = `grep "Max realtime timeout" /proc/self/limits`
	mark := func(line string) string { return strings.Fields(line)[3] }
	for range 20 {
		p := start(t, look)
		<-p.Output.Ended()
		if line := p.Output.Last(1)[0]; mark(line) != strconv.FormatUint(p.birth, 10) {
			t.Errorf("it was born as %d and saw %s", p.birth, line)
		}
	}
	var out strings.Builder
	beside := exec.Command("sh", "-c", look)
	beside.Stdout = &out
	if err := Beside(beside.Start); err != nil || beside.Wait() != nil {
		t.Fatal(err)
	}
	if mark(out.String()) != strconv.FormatUint(base(), 10) {
		t.Errorf("this program's mark is %d, and beside it: %s", base(), out.String())
	}
}
