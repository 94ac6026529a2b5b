package cli

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// Shells complete the names of a project: drills, sources, payloads, runs, functions, brokers.
func TestCompletion(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "f.py"), "def f(event):\n    return None\n")
	put(t, filepath.Join(dir, "p.ndjson"), `{"specversion":"1.0","id":"1","source":"/x","type":"scan"}`+"\n")
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
brokers: {harbour: {url: "nats://127.0.0.1"}}
functions: {crew: {handler: "f.py:f", variants: {small: {memory: 64MiB}}}}
sources: {jobs: {kind: queue, wires: [{to: crew}]}, fares: {kind: http, wires: [{to: crew}]}}
payloads: {work: {recording: p.ndjson}}
drills: {night: {feeds: [{source: jobs, payloads: work, arrive: once}]},
  noon: {feeds: [{source: jobs, payloads: work, arrive: once}]}}
`)
	for words, want := range map[string]string{
		"run |": "night noon", "run no|": "noon", "run night |": "", "fire |": "jobs fares", "fire jobs |": "work#1",
		"publish |": "jobs", "forecast |": "night noon last", "forecast night ni|": "night",
		"anatomy crew@|": "crew@small",
		"runs show |":    "last", "payloads show |": "work", "record --from |": "harbour", "run --baseline |": "last",
		"runs trend |": "night noon", "runs push |": "last", "runs pull --drill no|": "noon", "words idl|": "idle",
		"compare |": "crew crew@small last night noon",
	} {
		line := append([]string{"__complete", "--project", dir}, strings.Split(strings.TrimSuffix(words, "|"), " ")...)
		out, errs, code := nightdrill(t, line...)
		var got []string
		for _, l := range strings.Split(out, "\n") {
			if name, _, _ := strings.Cut(l, "\t"); name != "" && name[0] != ':' {
				got = append(got, name)
			}
		}
		if code != ok || strings.Join(got, " ") != want {
			t.Errorf("%s completes to %q, want %q\n%s", words, got, want, errs)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if out, _, code := nightdrill(t, "completion", shell); code != ok || !strings.Contains(out, "nightdrill") {
			t.Errorf("no completion for %s", shell)
		}
	}
	out, _, _ := nightdrill(t, "version", "--json")
	var v versionInfo
	if err := json.Unmarshal([]byte(out), &v); err != nil || v.Version == "" || v.Go == "" || v.Arch == "" {
		t.Errorf("%v: %s", err, out)
	}
}
