package services

import (
	"context"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/logs"
)

// free returns an address that no one listens on.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func sh(script string) []string { return []string{"sh", "-c", script} }

// What a command that is to end leaves behind is the service: it stays, and goes in the end.
func TestWhatIsLeftIsTheService(t *testing.T) {
	dir := t.TempDir()
	s := New([]plan.Service{{Name: "s", Start: sh("setsid sh -c 'echo $$ > new; mv new pid; exec sleep 1000' & " +
		"until [ -e pid ]; do sleep 0.01; done"),
		Ready: plan.Ready{By: plan.ReadyExit}, Dir: dir, StartTimeout: time.Minute}}, t.TempDir(), logs.New(""))
	if err := s.Need(t.Context(), 0); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(filepath.Join(dir, "pid"))
	pid := strings.TrimSpace(string(text))
	lives := func() bool { return pid != "" && exec.Command("kill", "-0", pid).Run() == nil }
	if !lives() {
		t.Errorf("%q does not live when its service is there", pid)
	}
	s.Close()
	if lives() {
		t.Errorf("%s lives after the service has ended", pid)
	}
}

// Each condition is waited for; what does not fulfil it says how.
func TestNeed(t *testing.T) {
	dir := t.TempDir()
	for name, c := range map[string]struct {
		start []string
		ready plan.Ready
		want  string
	}{
		"runs": {sh("exec sleep 60"), plan.Ready{By: plan.ReadyRuns}, ""},
		"line": {sh("echo tables are up; exec sleep 60"), plan.Ready{By: plan.ReadyLine,
			Line: `tables \w+ up`}, ""},
		"exit": {sh("touch laid"), plan.Ready{By: plan.ReadyExit}, ""},
		"exit with 3": {sh("echo no water; exit 3"), plan.Ready{By: plan.ReadyExit},
			"service s: sh exited with code 3; its last line: no water"},
		"line, but ends": {sh("echo no gulls; exit 2"), plan.Ready{By: plan.ReadyLine, Line: "up"},
			"service s does not start: it exited with code 2 before it was ready; its last line: no gulls"},
		"line, never": {sh("echo still; exec sleep 60"), plan.Ready{By: plan.ReadyLine, Line: "up"},
			`service s was not ready within 400 ms: no line of its output matched "up"; its last line: still`},
		"tcp, never": {sh("exec sleep 60"), plan.Ready{By: plan.ReadyTCP, Path: free(t)},
			"nothing answered at 127.0.0.1:"},
		"tcp, but ends": {sh("exit 1"), plan.Ready{By: plan.ReadyTCP, Path: free(t)},
			"it exited with code 1 before it was ready"},
		"http, never": {sh("exec sleep 60"), plan.Ready{By: plan.ReadyHTTP, Path: "http://" + free(t)},
			"nothing answered at http://"},
		"not there": {[]string{"no-such-command-anywhere"}, plan.Ready{By: plan.ReadyRuns},
			"service s does not start: command not found"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := New([]plan.Service{{Name: "s", Start: c.start, Ready: c.ready, Dir: dir,
				StartTimeout: 400 * time.Millisecond}}, t.TempDir(), logs.New(""))
			defer s.Close()
			err := s.Need(t.Context(), 0)
			if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
				t.Fatalf("error %v, want %q", err, c.want)
			}
			if names := s.Names(); (len(names) == 1) != (c.want == "") {
				t.Errorf("there are %v", names)
			}
			if err := s.Need(t.Context(), 0); (err == nil) != (c.want == "") {
				t.Errorf("needed again: %v", err)
			}
		})
	}
}

// One that was started elsewhere is used as it is; gone, it is started by us.
func TestTheirsIsUsed(t *testing.T) {
	address := free(t)
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.NotFoundHandler()}
	go func() { _ = server.Serve(l) }()
	dir := t.TempDir()
	log := logs.New("")
	s := New([]plan.Service{{Name: "s", Start: sh("touch started; exit 1"), Stop: sh("touch stopped"),
		Reset: sh("touch reset"),
		Ready: plan.Ready{By: plan.ReadyTCP, Path: address}, Dir: dir, StartTimeout: 2 * time.Second}}, t.TempDir(),
		log)
	has := func(name string) bool { _, err := os.Stat(filepath.Join(dir, name)); return err == nil }
	if err := s.Need(t.Context(), 0); err != nil || has("started") || s.Names()[0] != "s (already running)" {
		t.Errorf("%v, %v", err, s.Names())
	}
	if err := s.Reset(t.Context()); err != nil || !has("reset") {
		t.Errorf("reset: %v", err)
	}
	s.Close()
	if has("stopped") {
		t.Error("what someone else'started was ended")
	}
	server.Close()
	if err := s.Need(t.Context(), 0); err == nil || !has("started") {
		t.Errorf("gone, it is not started: %v", err)
	}
}

// A service that died is started again; its stop command ends it; a reset that
// fails is said.
func TestItsLife(t *testing.T) {
	dir := t.TempDir()
	s := New([]plan.Service{
		{Name: "mortal", Start: sh("echo $$ > pid; echo born; exec sleep 60"),
			Stop:  sh("echo stopped >> steps; kill $(cat pid)"),
			Ready: plan.Ready{By: plan.ReadyLine, Line: "born"}, Dir: dir, StartTimeout: 5 * time.Second},
		{Name: "stubborn", Start: sh("exec sleep 60"), Reset: sh("echo it is locked; exit 9"),
			Ready: plan.Ready{By: plan.ReadyRuns}, Dir: dir, StartTimeout: 5 * time.Second},
	}, t.TempDir(), logs.New(""))
	if err := s.Need(t.Context(), 0); err != nil {
		t.Fatal(err)
	}
	first := s.all[0].proc
	pid, _ := os.ReadFile(filepath.Join(dir, "pid"))
	if out, err := exec.Command("kill", "-9", strings.TrimSpace(string(pid))).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	<-first.Done()
	if err := s.Need(t.Context(), 0); err != nil || s.all[0].proc == first {
		t.Errorf("after its death: %v", err)
	}
	if err := s.Reset(t.Context()); err != nil { // neither is there that has one
		t.Errorf("reset: %v", err)
	}
	if err := s.Need(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if err := s.Reset(t.Context()); err == nil || !strings.Contains(err.Error(),
		"service stubborn could not be reset: sh exited with code 9; its last line: it is locked") {
		t.Errorf("reset: %v", err)
	}
	second := s.all[0].proc
	s.Close()
	<-second.Done()
	if steps, _ := os.ReadFile(filepath.Join(dir, "steps")); string(steps) != "stopped\n" {
		t.Errorf("steps %q", steps)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := New([]plan.Service{{Name: "s", Start: sh("sleep 60"), Ready: plan.Ready{By: plan.ReadyExit}, Dir: dir,
		StartTimeout: time.Minute}}, "", nil).Need(ended, 0); err == nil {
		t.Error("interrupted, it is ready")
	}
}
