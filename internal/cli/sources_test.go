package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// ferries lays the demo's project in a folder of its own.
func ferries(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "ferries")
	if err := os.CopyFS(dir, os.DirFS("../demo/project")); err != nil {
		t.Fatal(err)
	}
	return dir
}

// Every kind of source is checked, explained and fired at from the command line.
func TestEveryKindFromTheCommandLine(t *testing.T) {
	dir := ferries(t)
	// boarding asks for retries until its list is there, which takes long on a slow machine
	content := strings.Replace(read(t, dir+"/nightdrill.yaml"), "attempts: 3", "attempts: 50", 1)
	rewrite(t, dir, "nightdrill.yaml", content)
	file := func(name, content string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	load := file("load.csv", "Heron,BW1830-skerry,BF-1830-160\nlime,400,20\n")
	request := file("ask.request", "POST /quote/skerry HTTP/1.1\n\n")
	picture := filepath.Join(dir, "map.svg")
	for _, c := range []struct {
		args string
		code int
		want string // parts, with | between
	}{
		{"check", 0, "created or overwritten, key manifests/*.csv → manifest|its reply is sent on to scans, if /fits " +
			"is true|stream, 4 partitions by /vessel|30 1,13 * * * in Europe/Lisbon|13:30:00|01:30 does not exist on " +
			"2026-03-29, as the clocks go forward: it fires at 02:00|72 h of its clock: 6 times"},
		{"check --event manifests#1", 0, "cargo (storage): taken|met    key manifests/*.csv"},
		{"check --event manifests#3", 1, "cargo (storage): no wire takes it|fails  the key manifests/petrel-1900.CSV " +
			"ends in .CSV|nearest is the wire to manifest"},
		{"check --event " + load, 1, "the key load.csv is in no folder"},
		{"check --event " + load + " --key manifests/load.csv", 0, "cargo (storage): taken"},
		{"check --event " + request, 1, "fails  the method is POST, the wire wants GET"},
		{"check --event fare-requests --source scans", 1, "scans is a source of kind queue, this is an HTTP request"},
		{"check --event boarding-scans#2", 0, "scans (queue): taken|no conditions"},
		{"check --event nothing", 2, `no payload set or file "nothing"`},
		{"check --event " + load + " --source crago", 2, `unknown source "crago"`},
		{"check --key x", 2, "need --event FILE"},
		{"check --map " + picture, 0, "No errors"},
		{"check --map " + picture, 3, "already exists"},
		{"check --map " + picture + " --force", 0, "No errors"},
		{"fire cargo " + load + " --key manifests/load.csv", 0,
			`"kilograms": 400|step by step|cargo → manifest, done, status 200|scans → boarding, done|"pass": ` +
				`"BF-1830-160"`},
		{"fire cargo " + load, 1, "unmatched|the key load.csv is in no folder"},
		{"fire cargo manifests#6", 0, `"fits": false`},
		{"fire cargo " + dir, 2, "no payload set"},
		{"fire vessels odd-positions#1", 0, `"vessel": "Kittiwake"|done`},
		{"fire vessels odd-positions#14", 1, "dead-lettered|attempt 2: bad status"},
		{"fire nightly next", 0, `"what": "high water"`},
		{"fire nightly then", 2, `no payload set, saved payload or file "then"`},
	} {
		out, errs, code := nightdrill(t, append([]string{"--project", dir}, strings.Fields(c.args)...)...)
		if code != c.code {
			t.Errorf("%s: exit %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
		for _, w := range strings.Split(c.want, "|") {
			if !strings.Contains(out+errs, w) {
				t.Errorf("%s: without %q:\n%s%s", c.args, w, out, errs)
			}
		}
	}
	out, _, _ := nightdrill(t, "--project", dir, "fire", "cargo", load, "--key", "manifests/load.csv", "--json")
	var all struct {
		Firings []struct {
			Outcome string
			Steps   []firedStep
		}
	}
	if err := json.Unmarshal([]byte(out), &all); err != nil || len(all.Firings) != 1 ||
		all.Firings[0].Outcome != "done" || len(all.Firings[0].Steps) != 2 ||
		all.Firings[0].Steps[1].From != "reply" || all.Firings[0].Steps[1].Outcome != "done" ||
		len(all.Firings[0].Steps[1].Attempts) == 0 || all.Firings[0].Steps[1].Attempts[0].Class != "cold" {
		t.Errorf("%v: %+v\n%s", err, all, out)
	}
}
