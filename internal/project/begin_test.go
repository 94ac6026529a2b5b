package project

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// What a project is begun around: the function that is found, by the names that
// such files have, else a new one; the other finds are named.
func TestBeginFindsTheFunction(t *testing.T) {
	for _, c := range []struct {
		files, lang, want string
	}{
		{"", "python", "with a small new function in function.py (python)"},
		{"", "node", "with a small new function in function.mjs (node)"},
		{"app.py other.py", "", "around app.py, started by python3 app.py"},
		{"other.py", "", "around other.py, started by python3 other.py"},
		{"one.py two.py", "python", "with a small new function in function.py (python)"},
		{"src/main.py", "", "around src/main.py, started by python3 src/main.py"},
		{"server.js", "", "around server.js, started by node server.js"},
		{"package.json lib.js start.js", "node", "around lib.js, started by node lib.js"},
		{"go.mod main.go", "", "around go.mod, started by ./bin/"},
		{"go.mod cmd/gate/main.go serve.py", "python", "around serve.py, started by python3 serve.py"},
		{"go.mod util.go", "go", "with a small new function in function.go (go)"},
		{"target/app.jar Main.java", "", "around target/app.jar, started by java -jar target/app.jar"},
		{"Main.java", "", "around Main.java, started by java Main.java"},
		{"Procfile app.py", "", "around Procfile, started by python3 serve.py --port {port}; also app.py (--lang " +
			"python)"},
		{"package.json=start index.js", "", "around package.json, started by node serve.js"},
		{"app.py server.js", "", "around app.py, started by python3 app.py; also server.js (--lang node)"},
		{"app.py server.js", "node", "around server.js, started by node server.js"},
	} {
		dir := t.TempDir()
		for _, name := range strings.Fields(c.files) {
			text := ""
			switch name {
			case "package.json":
				text = `{"main":"lib.js"}`
			case "package.json=start":
				name, text = "package.json", `{"scripts":{"start":"node serve.js"}}`
			case "Procfile":
				text = "worker: x\nweb: python3 serve.py --port $PORT\n"
			}
			path := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		b, err := Begin(dir, c.lang, nil, nil)
		if err != nil {
			t.Errorf("%s: %v", c.files, err)
			continue
		}
		got := b.String()
		if len(b.Others) > 0 {
			got += "; also " + strings.Join(b.Others, ", ")
		}
		if !strings.HasPrefix(got, c.want) || !strings.Contains(c.want, "/bin/") && got != c.want {
			t.Errorf("%q with %q: %s, want %s", c.files, c.lang, got, c.want)
		}
	}
}

// What is laid is a project that is read without an error, for any command and
// folder; what is there is left alone.
func TestLayIsReadAndOverwritesNothing(t *testing.T) {
	for name, command := range map[string][]string{"plain": {"sh", "serve.sh"},
		"Odd Name 7!": {"sh", "-c", `exec serve "a b" {port} # '{x}'`}, "123": {"sh"}, "ünï": {"sh", "\\"}} {
		dir := filepath.Join(t.TempDir(), name)
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		b, err := Begin(dir, "", command, []string{"queue", "http"})
		if err != nil {
			t.Fatal(err)
		}
		if err := b.Lay(dir); err != nil {
			t.Fatal(err)
		}
		l, err := Load(t.Context(), dir)
		if err != nil {
			text, _ := os.ReadFile(filepath.Join(dir, File))
			t.Errorf("%s: %v\n%s", name, err, text)
			continue
		}
		if f := l.Functions[0]; strings.Join(f.Start, "\x00") != strings.Join(command, "\x00") || len(l.Sources) != 3 ||
			len(l.Sets) != 2 || len(l.Drills) != 1 || l.Sets[0].Expect == nil {
			t.Errorf("%s: it is read as %+v", name, f)
		}
		if err := b.Lay(dir); err == nil || !strings.Contains(err.Error(), "not overwritten; nothing was written") {
			t.Errorf("%s: laid twice: %v", name, err)
		}
	}
	// one file that is there, and nothing is written
	dir := t.TempDir()
	write := filepath.Join(dir, "payloads", "web", "tide.request")
	_ = os.MkdirAll(filepath.Dir(write), 0o755)
	_ = os.WriteFile(write, []byte("mine"), 0o644)
	b, err := Begin(dir, "python", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Lay(dir); err == nil || !strings.Contains(err.Error(), "payloads/web/tide.request already exists") {
		t.Errorf("it was laid: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, File)); err == nil {
		t.Error("a part of it was written")
	}
	for _, c := range []struct {
		lang  string
		kinds []string
		want  string
	}{{"pyhton", nil, "did you mean python?"}, {"", []string{"strom"}, "unknown kind of source"}} {
		if _, err := Begin(dir, c.lang, nil, c.kinds); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %v: %v", c.lang, c.kinds, err)
		}
	}
}

// An env_file is read line by line; what is wrong in it is said without showing
// what may be a secret.
func TestEnvFile(t *testing.T) {
	dir := write(t, good)
	set := func(text string) {
		if err := os.WriteFile(filepath.Join(dir, "quote.env"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	set("\n# comment\nexport A=1\nB = two words \nC='single'\nD=\"a=b\"\nE=\nFARES=from the file\n")
	l, err := Load(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(l.Functions[0].Env, "|"); got != "A=1|B=two "+
		"words|C=single|D=a=b|DECKS=3|E=|FARES=data/fares.json" {
		t.Errorf("environment %s", got)
	}
	set("OK=1\nsecret words without a sign\nPORT=80\n")
	_, err = Load(t.Context(), dir)
	if err == nil || !strings.Contains(err.Error(), "quote.env:2: expected NAME=value") ||
		!strings.Contains(err.Error(), "quote.env:3: PORT is set by Night Drill") || strings.Contains(err.Error(),
		"secret words") {
		t.Errorf("mistakes %v", err)
	}
}

// What has to be built, or is begun by a tool, is listed with what would be written; one is taken only where there is
// no other, and a folder's name keeps its digits.
func TestBeginFindsServers(t *testing.T) {
	const command = "package main\n\nfunc main() {}\n"
	for _, c := range []struct {
		files map[string]string
		want  string // what is found, in its order, "*" before it where it is taken
	}{
		{map[string]string{"Cargo.toml": "[package]\nname = \"quay\"\n[dependencies]\nname = \"x\"\n",
			"src/main.rs": ""}, "*./target/release/quay"},
		{map[string]string{"Cargo.toml": "[package]\nname = \"quay\"\n[[bin]]\nname = \"gate\"\n[[bin]]\n" +
			"name = \"pier\"\n"}, "./target/release/gate, ./target/release/pier"},
		{map[string]string{"go.mod": "module quay\n", "cmd/gate/main.go": command, "cmd/pier/main.go": command,
			"cmd/docs/README": "package main", "serve.py": "x.serve_forever()"},
			"./bin/gate, ./bin/pier, python3 serve.py"},
		{map[string]string{"Makefile": "all: run\nrun: all\n\t./x\nserver := y\n"}, "*make -s run"},
		{map[string]string{"Makefile": "run:\nserve :\n", "a.mjs": "export const f = (event) => 1;\n"},
			"a.mjs:f, make -s run, make -s serve"},
		{map[string]string{"Procfile": "worker: ./work\nadmin: ./admin --port $PORT\n"}, "*./admin --port {port}"},
	} {
		dir := filepath.Join(t.TempDir(), "Quay 7")
		for name, text := range c.files {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		b, err := Begin(dir, "", nil, nil)
		if err != nil {
			t.Errorf("%v: %v", c.files, err)
			continue
		}
		var got []string
		for i := range b.Handlers {
			got = append(got, b.Handlers[i].Handler())
		}
		found := strings.Join(got, ", ")
		if !b.Choice {
			found = "*" + found
		}
		if found != c.want {
			t.Errorf("%v: %s, want %s", c.files, found, c.want)
		}
		b, err = Choose(Everything(dir), []string{"all"}, nil)
		if err != nil || len(b.Handlers) != len(got) {
			t.Fatalf("%v: %v, %+v", c.files, err, b)
		}
		if err := b.Lay(dir); err != nil {
			t.Fatal(err)
		}
		if l, err := Load(t.Context(), dir); err != nil || len(l.Functions) != len(got) || l.Name != "quay-7" {
			text, _ := os.ReadFile(filepath.Join(dir, File))
			t.Errorf("%v\n%s", err, text)
		}
	}
}

// The first request has what the handler reads, as far as that can be seen.
func TestTheFirstRequestFits(t *testing.T) {
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("HANDLERS ARE NOT LOOKED FOR: python3 is not on this machine")
	}
	for name, c := range map[string]struct{ text, want string }{
		"a.py": {"def f(event):\n  ask, body = event['query'], event.get('body')\n  n = ask.get('to')\n" +
			"  return body['deck']['car'], other['x'], event['query']['day']\n",
			"POST /tides/quay-1?to=1&day=1 HTTP/1.1|\"deck\": {|\"car\": \"1\""},
		"e.py": {"def f(data):\n  return data['pass'] + data.get('deck')['car']\n",
			"POST /tides/quay-1 HTTP/1.1|\"pass\": \"1\"|\"deck\": {"},
		"b.py": {"def f(event):\n  return 1\n", "GET /tides/quay-1 HTTP/1.1"},
		"c.mjs": {"export const f = async (event) => event.query.to + event.body?.adults;\n",
			"POST /tides/quay-1?to=1 HTTP/1.1|\"adults\": \"1\""},
		"d.go": {"package f\n\ntype Ask struct {\n  To string `json:\"to\"`\n  Adults int " +
			"`json:\"adults,omitempty\"`\n}\n\nfunc F(a Ask) (int, error) { return 1, nil }\n",
			"POST /tides/quay-1 HTTP/1.1|\"adults\": 1|\"to\": \"1\""},
	} {
		dir := t.TempDir()
		for file, text := range map[string]string{name: c.text, "go.mod": "module f\n"} {
			if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		b, err := Begin(dir, "", nil, nil)
		if err != nil || len(b.Handlers) != 1 {
			t.Fatalf("%s: %v, %+v", name, err, b)
		}
		if err := b.Lay(dir); err != nil {
			t.Fatal(err)
		}
		text, _ := os.ReadFile(filepath.Join(dir, "payloads/web/tide.request"))
		for part := range strings.SplitSeq(c.want, "|") {
			if !strings.Contains(string(text), part) {
				t.Errorf("%s: without %q:\n%s", name, part, text)
			}
		}
	}
}

// A plain function is found with the reason, and where there are several, no one is taken before someone says
// which; what
// is laid around them is read without an error. Nothing of them is run.
func TestBeginFindsHandlers(t *testing.T) {
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("HANDLERS ARE NOT LOOKED FOR: python3 is not on this machine")
	}
	const (
		quote  = "import os\nos.remove('kept')\ndef quote(event, context): pass\ndef helper(a, b, c): pass\n"
		server = "def handle(event): pass\nserver.serve_forever()\n"
		tides  = "export const tide = async (event, ctx) => 1;\nexport function page(req, res) {}\nfunction " +
			"own(event) {}\n"
		gate = "package gate\n\nimport \"context\"\n\nfunc Board(ctx context.Context, pass string) (string, error) " +
			"{ return pass, nil }\n\nfunc Close() error { return nil }\n\nfunc own(pass string) error { return nil }\n"
		desk = "package quay;\n\npublic class Desk {\n  private int own(Object event) { return 1; }\n" +
			"  public Object scan(Map<String, List<Object>> event, Context c) throws Exception {\n  }\n" +
			"  public static void page(HttpExchange x) { }\n  public int helper(int a, int b) { return a; }\n}\n"
	)
	for _, c := range []struct {
		files map[string]string
		want  string
	}{
		{map[string]string{"quote.py": quote}, "quote.py:quote event its parameters are called event, context"},
		{map[string]string{"app.py": server}, ""},
		{map[string]string{"f/tides.mjs": tides}, "f/tides.mjs:page request it takes a request: req, res; " +
			"f/tides.mjs:tide event its parameters are called event, ctx"},
		{map[string]string{"go.mod": "module quay\n", "gate/gate.go": gate},
			"gate/gate.go:Board data it takes one value: context.Context, string"},
		{map[string]string{"node_modules/x/a.mjs": tides, "test_a.py": quote, "bad.py": "def x(:", "bad.go": "package"},
			""},
		{map[string]string{"one.cjs": "module.exports = async (event) => 1;\n",
			"two.cjs": "exports.go = async (event, context) " +
				"=> 1;\n"}, "one.cjs:default event its parameters are called event; two.cjs:go event its " +
			"parameters are " +
			"called event, context"},
		{map[string]string{"Main.java": "class Main {\n  public static void main(String[] args) {}\n" +
			"  public int f(Object event) { return 1; }\n}\n"}, ""},
		{map[string]string{"src/quay/Desk.java": desk, "src/quay/DeskTest.java": desk},
			"build/classes:quay.Desk.page request it takes a request: x; " +
				"build/classes:quay.Desk.scan event its parameters are called event, context"},
		{map[string]string{"pom.xml": "", "src/main/java/com/quay/desk/Desk.java": desk},
			"target/classes:quay.Desk.page request it takes a request: x; " +
				"target/classes:quay.Desk.scan event its parameters are called event, context"},
		{map[string]string{"serve.mjs": tides + "http.createServer(page).listen(1);\n"}, ""},
	} {
		dir := t.TempDir()
		c.files["kept"] = ""
		for name, text := range c.files {
			path := filepath.Join(dir, name)
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text),
				0o644)); err != nil {
				t.Fatal(err)
			}
		}
		var got []string
		all := Candidates(dir)
		for _, x := range all {
			got = append(got, x.Handler()+" "+x.Takes.String()+" "+x.Why)
		}
		slices.Sort(got)
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%v:\n%s, want\n%s", c.files, s, c.want)
		}
		if _, err := os.Stat(filepath.Join(dir, "kept")); err != nil {
			t.Error("what was found was run")
		}
		if len(all) == 0 {
			continue
		}
		b, err := Begin(dir, "", nil, nil)
		if err != nil || b.Choice != (len(all) > 1) || len(b.Handlers) != len(all) {
			t.Errorf("%v, %+v", err, b)
		}
		if b, err = Choose(all, []string{"all"}, []string{"http", "queue"}); err != nil {
			t.Fatal(err)
		}
		if err := b.Lay(dir); err != nil {
			t.Fatal(err)
		}
		if l, err := Load(t.Context(), dir); err != nil || len(l.Functions) != len(all) {
			text, _ := os.ReadFile(filepath.Join(dir, File))
			t.Errorf("%v\n%s", err, text)
		}
		if _, err := Choose(all, []string{"elsewhere"}, nil); err == nil || !strings.Contains(err.Error(),
			all[0].Handler()) {
			t.Errorf("an unknown one: %v", err)
		}
	}
}
