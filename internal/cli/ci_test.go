package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The script of the page about pipelines runs in a POSIX shell as it stands there: it leaves its artefacts, and its
// exit code is the worst of its steps.
func TestTheScriptForPipelines(t *testing.T) {
	has(t, "python3")
	_, rest, _ := strings.Cut(read(t, "../../docs/ci.md"), "```sh\n")
	script, _, found := strings.Cut(rest, "```")
	if !found || !strings.HasPrefix(script, "#!/bin/sh\n") {
		t.Fatal("the page has no script")
	}
	dir, bin := t.TempDir(), t.TempDir()
	put(t, filepath.Join(bin, "night-drill.sh"), script)
	if err := os.Chmod(filepath.Join(bin, "night-drill.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(dir, "tide.py"), "def tide(event):\n    return 'high'\n")
	put(t, filepath.Join(dir, "asks.har"), `{"log": {"version": "1.2", "entries": [{"request": {"method": "GET", "url":
		"http://x/tide", "headers": []}, "response": {"status": 0, "headers": [], "content": {}}}]}}`)
	file := filepath.Join(dir, "nightdrill.yaml")
	project := `nightdrill: 1
functions:
  tide: {handler: "tide.py:tide", start_timeout: 60s}
sources:
  tides: {kind: http, wait: 60s, wires: [{to: tide}]}
payloads:
  asks: {recording: asks.har, expect: {status: 200}}
drills:
  night:
    feeds: [{source: tides, payloads: asks, arrive: once}]
    budgets: [source tides rejected == 0]
`
	for _, x := range []struct {
		from, to string
		want     int
	}{{"", "", ok}, {"status: 200", "status: 404", missed}, {"rejected == 0", "rejected > 0", missed},
		{"nightdrill: 1", "nightdrill: 9", wrongUse}} {
		put(t, file, strings.Replace(project, x.from, x.to, 1))
		c := exec.Command(filepath.Join(bin, "night-drill.sh"), "night")
		c.Dir, c.Env = dir, append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
		out, _ := c.CombinedOutput() // its exit code is looked at
		if got := c.ProcessState.ExitCode(); got != x.want {
			t.Errorf("with %q: exit %d, want %d\n%s", x.to, got, x.want, out)
		}
		if x.want != ok {
			continue
		}
		for _, name := range []string{"expectations.xml", "summary.json", "*-budgets.xml", "*.html", "*-metrics.txt"} {
			if found, _ := filepath.Glob(filepath.Join(dir, "night-drill", name)); len(found) != 1 {
				t.Errorf("no %s: %v", name, found)
			}
		}
	}
}
