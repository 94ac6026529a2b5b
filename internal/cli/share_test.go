package cli

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill.dev/internal/store/shared/sharedtest"
)

// shareable lays a project in a repository that shares its runs.
func shareable(t *testing.T, server *sharedtest.Server) string {
	t.Helper()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "tide.py"), "def tide(event):\n    return 'high'\n")
	put(t, filepath.Join(dir, "asks.har"), `{"log": {"version": "1.2", "entries": [{"request": {"method": "GET", "url":
		"http://x/tide", "headers": []}, "response": {"status": 0, "headers": [], "content": {}}}]}}`)
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
project: ferries
runs: {share: {url: "`+server.URL("ferries", "drills")+`", password: {env: `+sharedtest.Variable+`}}}
functions:
  tide: {handler: "tide.py:tide", start_timeout: 60s, idle_after: 1s}
sources:
  tides: {kind: http, wait: 60s, wires: [{to: tide}]}
payloads:
  asks: {recording: asks.har}
drills:
  night: {settle: 10m, feeds: [{source: tides, payloads: asks, arrive: [{steady: 20/s, for: 1s}]}]}
`)
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "tide.py", "asks.har", "nightdrill.yaml"},
		{"-c", "user.name=Ada", "-c", "user.email=ada@ferries.example", "commit", "-q", "-m", "tides"}} {
		if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	return dir
}

// Two developers of one project share runs: what one pushes the other pulls, judges a run by, and sees the trends of.
func TestATeamSharesItsRuns(t *testing.T) {
	has(t, "python3")
	has(t, "git")
	server := sharedtest.Serve(t, "")
	ada, ben := shareable(t, server), shareable(t, server)
	do := func(dir string, code int, want string, args ...string) string {
		t.Helper()
		out, errs, got := nightdrill(t, append([]string{"--project", dir}, args...)...)
		if got != code || !strings.Contains(out+errs, want) || strings.Contains(out+errs, sharedtest.Secret) {
			t.Fatalf("%v: exit %d, want %d and %q:\n%s%s", args, got, code, want, out, errs)
		}
		return out
	}
	do(ben, wrongUse, "--baseline: branch main has no finished run of drill night", "run", "--baseline", "main@latest")
	do(ada, ok, "", "run")
	do(ada, ok, "1 run pushed to 127.0.0.1", "runs", "push")
	do(ada, ok, "0 runs pushed", "runs", "push")
	if list := do(ben, ok, "main", "runs", "list", "--shared"); !strings.Contains(list, "night") {
		t.Error(list)
	}
	do(ben, ok, "not worse than in run", "run", "--allow-few", "--worse", "2000%", "--baseline", "main@latest")
	if list := do(ben, ok, "", "runs", "list", "--json"); strings.Count(list, `"branch": "main"`) != 2 {
		t.Errorf("the baseline was not pulled:\n%s", list)
	}
	do(ben, ok, "", "runs", "name", "last", "mine")
	// a hundred runs of Ada's machine, the later ones slower
	if err := server.Exec("drills", `INSERT INTO nightdrill.runs
		SELECT to_char(began + n * interval '1 hour', 'YYYYMMDD-HH24MISS') || '-zz', project, drill,
			began + n * interval '1 hour', true, length, machine, 'x' || n, branch, '', '', bytes,
			jsonb_set(main, '{functions,0,warm_p50_ms}',
				to_jsonb((CASE WHEN n < 60 THEN 4 ELSE 6 END) + (n*7%10)/20.0)),
			head
		FROM nightdrill.runs, generate_series(1, 100) n`); err != nil {
		t.Fatal(err)
	}
	svg := filepath.Join(ben, "trend.svg")
	do(ben, ok, "with commit x60 (", "runs", "trend", "--shared", "--branch", "main", "--svg", svg)
	if text := read(t, svg); !strings.Contains(text, ">x60<") || !strings.Contains(text, "warm p50") {
		t.Errorf("%.600s", text)
	}
	do(ben, ok, `"format": "nightdrill.trend/1"`, "runs", "trend", "--shared", "--json")
	do(ben, wrongUse, "no finished run of drill \"tides\"", "runs", "trend", "tides")
	do(ben, ok, "2 runs pulled", "runs", "pull", "--last", "2")
	if err := server.Exec("drills", "UPDATE nightdrill.runs SET machine = 'another' WHERE code = 'x100'"); err != nil {
		t.Fatal(err)
	}
	do(ben, ok, "another run, from another machine, has that ID", "runs", "pull", "--last", "2")
	// figures of another machine stand side by side, without a verdict
	if err := server.Exec("drills", `DELETE FROM nightdrill.runs WHERE code LIKE 'x%';
		INSERT INTO nightdrill.runs SELECT '20260101-060000-xx', project, drill, began, finished, length,
			'a large machine',
			code, 'release', '', '', bytes, main, jsonb_set(head::jsonb, '{machine}', '"a large machine"')::text
			FROM nightdrill.runs;
		UPDATE nightdrill.blocks SET run = '20260101-060000-xx';
		DELETE FROM nightdrill.runs WHERE branch = 'main'`); err != nil {
		t.Fatal(err)
	}
	do(ben, wrongUse, "from other machines alone (a large machine)", "run", "--baseline", "release@latest")
	do(ben, ok, "1 run pulled", "runs", "pull", "--branch", "release")
	do(ben, wrongUse, "is from another machine (a large machine), so there is no verdict", "run", "--baseline",
		"20260101-060000-xx")
	if text := do(ben, ok, "are from different machines, so there is no verdict", "compare", "20260101-060000-xx",
		"mine"); strings.Contains(text, "no difference") || strings.Contains(text, "slower") {
		t.Error(text)
	}
	// one that was written to do harm
	if err := server.Exec("drills", `INSERT INTO nightdrill.runs SELECT '20260102-060000-yy', project, drill, began,
			finished, length, E'a\x1b[31m machine', code, 'release', E'\x1b]0;t\x07name', E'\x1b[2J', bytes,
			replace(main::text, '"name": "', '"name": "\u001b[31m')::jsonb,
			replace(head, '"name": "', '"name": "\u001b[31m')
		FROM nightdrill.runs WHERE id = '20260101-060000-xx'`); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"list", "--shared"}, {"pull", "20260102"}, {"list"}, {"show", "20260102"},
		{"trend"}} {
		if text := do(ben, ok, "", append([]string{"runs"}, args...)...); strings.Contains(text, "\x1b") {
			t.Errorf("%v: %q", args, text)
		}
	}
	do(ben, ok, "·[31m", "runs", "show", "20260102")
	do(ben, ok, "deleted 20260101-060000-xx from", "runs", "delete", "--shared", "20260101-06")
	server.Stop()
	do(ada, failed, "nothing listens there", "runs", "push")
	do(ben, wrongUse, "nothing listens there", "run", "--baseline", "release2@latest")
	do(ben, ok, "of this store: shared runs on", "run", "--allow-few", "--baseline", "main@latest")
	put(t, filepath.Join(ada, "nightdrill.yaml"), strings.Replace(read(t, filepath.Join(ada, "nightdrill.yaml")),
		"runs:",
		"#", 1))
	do(ada, wrongUse, "does not say where runs are shared", "runs", "push")
}
