package cli

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"nightdrill.dev/internal/core/payload"
)

// recorder is a recording proxy that runs as a process of its own.
type recorder struct {
	*exec.Cmd
	lines *bufio.Scanner
	url   string
}

func startRecorder(t *testing.T, dir, to string) *recorder {
	t.Helper()
	c := exec.Command(program, "--project", dir, "record", "--to", to, "--as", "evening", "--listen", "127.0.0.1:0",
		"--redact", "/card")
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill() })
	r := &recorder{Cmd: c, lines: bufio.NewScanner(out)}
	first := r.next(t)
	if _, err := fmt.Sscanf(first, "listening at %s passing", &r.url); err != nil {
		t.Fatalf("%q: %v", first, err)
	}
	r.url = strings.TrimSuffix(r.url, ",")
	return r
}

// next returns the next line that it prints.
func (r *recorder) next(t *testing.T) string {
	t.Helper()
	if !r.lines.Scan() {
		t.Fatal("it says no more")
	}
	return r.lines.Text()
}

// post sends a body, and waits until the exchange is recorded.
func (r *recorder) post(t *testing.T, body string) {
	t.Helper()
	reply, err := http.Post(r.url+"/pay?token=hush-hush", "application/json", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, reply.Body)
	_ = reply.Body.Close()
	for !strings.HasPrefix(r.next(t), "POST /pay  200") {
	}
}

// A recording is whole after a kill, is gone on with, and is a set of the project
// when it ends in order.
func TestRecord(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_,
			_ = io.Copy(w, r.Body)
	}))
	defer service.Close()
	dir := lay(t, served, "")
	file := filepath.Join(dir, "payloads", "evening.har")
	read := func() []payload.Payload {
		t.Helper()
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		list, mistakes := payload.Read(content)
		if len(mistakes) > 0 {
			t.Fatalf("%v\n%s", mistakes, content)
		}
		return list
	}
	r := startRecorder(t, dir, service.URL)
	r.post(t, `{"card":"4111 1111 1111 1111","n":1}`)
	r.post(t, `{"n":2}`)
	_ = r.Process.Kill()
	_ = r.Wait() // it was killed
	if list := read(); len(list) != 2 {
		t.Fatalf("after the kill there are %d exchanges", len(list))
	}
	// what a kill in the middle of an entry leaves
	whole, _ := os.ReadFile(file)
	if err := os.WriteFile(file, whole[:len(whole)-40], 0o644); err != nil {
		t.Fatal(err)
	}
	r = startRecorder(t, dir, service.URL)
	if line := r.next(t); !strings.Contains(line, "bytes of its last exchange were dropped, 1 are kept") {
		t.Errorf("it says %q", line)
	}
	r.post(t, `{"n":3}`)
	if err := r.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	var rest []string
	for r.lines.Scan() {
		rest = append(rest, r.lines.Text())
	}
	if err := r.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
	if content := strings.Join(rest, "\n"); !strings.Contains(content, "2 exchanges recorded as evening") ||
		!strings.Contains(content, "redacted: query token, 1 time") ||
		!strings.Contains(content, "added to payloads in nightdrill.yaml") {
		t.Errorf("in the end it says\n%s", content)
	}
	list := read()
	if len(list) != 2 || string(list[1].Request.Body) != `{"n":3}` || string(list[1].Reply.Body) != `{"n":3}` {
		t.Errorf("recorded are %d", len(list))
	}
	content, _ := os.ReadFile(file)
	if strings.Contains(string(content), "hush-hush") || strings.Contains(string(content), "4111") {
		t.Errorf("a secret is in\n%s", content)
	}
	expectCall(t, dir, []string{"payloads", "show", "evening#2"}, 0, []string{"POST /pay?token=redacted-", `{"n":3}`})
}
