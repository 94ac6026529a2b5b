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
const runaway = `env -i $(command -v setsid) -f sh -c 'echo $$ > pid.new; mv pid.new %s; exec sleep 1000' >/dev/null 2>&1
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
		// the mark is set right after the process was started: one that forks before that is not marked
		script := "until [ -e marked ]; do sleep 0.01; done; " + fmt.Sprintf(runaway, "mine") + "echo laid; " + end
		p, err := Start(Command{Args: []string{"sh", "-c", script}, Dir: dir})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(p.Kill)
		if err := os.WriteFile(filepath.Join(dir, "marked"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
		said(t, p, "laid")
		pid := numberIn(t, filepath.Join(dir, "mine"))
		for _, name := range []string{"mine", "marked"} {
			if err := os.Remove(filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
		}
		p.Stop(time.Second)
		<-p.Done()
		gone(t, pid)
	}
	if err := syscall.Kill(stranger, 0); err != nil {
		t.Errorf("what another started: %v", err)
	}
}
