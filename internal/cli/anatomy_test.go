package cli

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
)

// apart is the JSON of an anatomy.
type apart struct {
	Format    string             `json:"format"`
	Shares    map[string]float64 `json:"shares_ms"`
	Addresses []struct {
		Address string  `json:"address"`
		Ms      float64 `json:"ms"`
		Count   int     `json:"count"`
	} `json:"addresses"`
	Imports []struct {
		Name   string  `json:"name"`
		Parent string  `json:"parent"`
		Total  float64 `json:"total_ms"`
	} `json:"imports"`
	Files     struct{ Opened, Failed int }
	Commands  []string
	Sentences []string
	Untraced  struct{ Each []float64 } `json:"untraced_ms"`

	Unavailable []string
}

// What a start was planted with is found: a sleep, a server that answers late, a child, look-ups in vain, and the
// module that imports another one. The shares add up, and nothing is left behind.
func TestAnatomy(t *testing.T) {
	has(t, "python3")
	if runtime.GOOS != "linux" {
		t.Skip("where the time of a start goes is seen on Linux alone")
	}
	late, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer late.Close()
	go func() {
		for {
			conn, err := late.Accept()
			if err != nil {
				return
			}
			time.AfterFunc(300*time.Millisecond, func() {
				_, _ = conn.Write([]byte("x"))
				_ = conn.Close()
			})
		}
	}()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "tables.py"), "import decimal\n")
	put(t, filepath.Join(dir, "quote.py"), fmt.Sprintf(`import os, socket, subprocess, time
import tables
time.sleep(0.6)
socket.create_connection(("127.0.0.1", %d)).recv(1)
subprocess.run(["sleep", "0.2"])
for n in range(300):
    os.path.exists("/nowhere/at/all/%%d" %% n)
def quote(event):
    return 1
`, late.Addr().(*net.TCPAddr).Port))
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  quote: {handler: "quote.py:quote", start_timeout: 60s, variants: {other: {env: {A: b}}}}
  exits: {start: [sh, -c, "echo no tide table; exit 3"]}
  never: {start: [sleep, "600"], start_timeout: 1s}
sources:
  web: {kind: http, wires: [{to: quote, when: {path: /quote}}, {to: exits, when: {path: /e}}, {to: never}]}
`)
	out, errs, code := nightdrill(t, "--project", dir, "anatomy", "quote@other", "--json", "-")
	var a apart
	if err := json.Unmarshal([]byte(out), &a); err != nil || code != 0 {
		t.Fatalf("exit %d, %v\n%s%s", code, err, out, errs)
	}
	sum := 0.0
	for name, ms := range a.Shares {
		if name != "total_ms" {
			sum += ms
		}
	}
	if a.Format != "nightdrill.anatomy/1" || len(a.Untraced.Each) == 0 || sum-a.Shares["total_ms"] > 0.1 ||
		a.Shares["total_ms"]-sum > 0.1 {
		t.Errorf("shares %v sum up to %v\n%s", a.Shares, sum, out)
	}
	if len(a.Shares) > 0 { // a machine that is too busy for that shows no times
		// a sleep never takes less than it says; what else there was is not known here
		if a.Shares["sleeping"] < 600 || a.Shares["network"] < 200 || len(a.Addresses) == 0 ||
			a.Addresses[0].Address != late.Addr().String() {
			t.Errorf("shares %v, addresses %v", a.Shares, a.Addresses)
		}
		if text := strings.Join(a.Sentences, "\n"); !strings.Contains(text, "It sleeps ") ||
			!strings.Contains(text, "ms waited for "+late.Addr().String()) {
			t.Errorf("sentences:\n%s", text)
		}
	}
	of := map[string]string{}
	for _, x := range a.Imports {
		of[x.Name] = x.Parent
	}
	if of["decimal"] != "tables" {
		t.Errorf("decimal is imported by %q; imports %v", of["decimal"], of)
	}
	if a.Files.Failed < 300 || !strings.Contains(strings.Join(a.Commands, ","), "sleep 0.2") {
		t.Errorf("files %+v, commands %v, unavailable %v", a.Files, a.Commands, a.Unavailable)
	}
	expectCall(
		t,
		dir,
		[]string{"anatomy", "quotes"},
		2,
		[]string{`unknown function "quotes"; available: quote, exits, never`},
	)
	expectCall(
		t,
		dir,
		[]string{"anatomy", "exits"},
		3,
		[]string{"exits does not start: it exited with code 3 before it was ready",
			"no tide table"},
	)
	expectCall(t, dir, []string{"anatomy", "never"}, 3, []string{"never does not start: it was not ready within 1 s"})
	if out, _ := exec.Command("pgrep", "-f", "trace-st|nightdrill_loader.*quote.py").Output(); len(out) > 0 {
		t.Errorf("processes are left: %s", out)
	}
}

// A program that is killed leaves neither the tracer nor what it traces.
func TestAKilledTracerEnds(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("starts are traced on Linux alone")
	}
	out := filepath.Join(t.TempDir(), "names")
	fifo := filepath.Join(t.TempDir(), "began")
	if err := exec.Command("mkfifo", fifo).Run(); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(program, "trace-start", out, "sh", "-c", "echo x > "+fifo+"; exec sleep 61234")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.ReadFile(fifo); err != nil { // it runs
		t.Fatal(err)
	}
	if err := c.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = c.Wait() // it was killed
	until(t, func() bool {
		out, _ := exec.Command("pgrep", "-f", "sleep 61234").Output()
		return len(out) == 0
	})
}
