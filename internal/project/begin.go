package project

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"text/template"
)

//go:embed new
var newFiles embed.FS

// Languages are those that a project can be begun for.
var Languages = []string{"python", "node", "go", "java"}

// Kinds are the kinds of sources that a project can be begun with.
var Kinds = []string{"http", "queue", "storage", "stream", "schedule"}

// Beginning is a project that could be laid out in a folder.
type Beginning struct {
	Language string   // "" for a plain command
	Start    []string // the command
	Build    []string
	Watch    []string
	Kinds    []string
	Found    string // the function's file that is there already; "" for a new one
	New      string // the function's file to be made; "" when it is there
	Others   []string
	Handlers []Candidate // functions of their own, in place of a command
	declared bool        // by the folder itself, in a Procfile or a package.json
	Choice   bool        // there are several handlers, and no one has said which are meant
}

// String describes what the project is built around.
func (b *Beginning) String() string {
	switch {
	case len(b.Handlers) > 0:
		var all []string
		for i := range b.Handlers {
			all = append(all, b.Handlers[i].Handler())
		}
		if len(all) == 1 {
			return "around " + all[0]
		}
		return "around " + listed(all)
	case b.Found != "":
		return fmt.Sprintf("around %s, started by %s", b.Found, strings.Join(b.Start, " "))
	case b.New != "":
		return fmt.Sprintf("with a small new function in %s (%s)", b.New, b.Language)
	}
	return "around the command " + strings.Join(b.Start, " ")
}

// Begin finds out what a project in a folder would be: around the command, if
// one is given, else around the function that is there, else around a new one.
// A language that is given is kept to; kinds are those of the sources.
func Begin(dir, language string, command, kinds []string) (*Beginning, error) {
	if language != "" && !slices.Contains(Languages, language) {
		return nil, fmt.Errorf("unknown language %q%s; available: %s, or the command after --", language,
			didYouMean(language, Languages), listed(Languages))
	}
	for _, k := range kinds {
		if !slices.Contains(Kinds, k) {
			return nil, fmt.Errorf("unknown kind of source %q%s; available: %s", k, didYouMean(k, Kinds), listed(Kinds))
		}
	}
	if len(kinds) == 0 {
		kinds = Kinds[:1]
	}
	if len(command) > 0 {
		return &Beginning{Start: command, Kinds: kinds}, nil
	}
	other := func(c Candidate) bool { return language != "" && strings.ToLower(c.Language.String()) != language }
	handlers, servers := slices.DeleteFunc(Candidates(dir), other), slices.DeleteFunc(Servers(dir), other)
	var all []*Beginning
	if b := declared(dir); b != nil && (language == "" || language == b.Language) {
		b.Kinds = kinds
		all = append(all, b)
	}
	for _, l := range Languages {
		b := find(dir, l)
		if b == nil || language != "" && language != l || slices.ContainsFunc(handlers, func(c Candidate) bool {
			return c.File == b.Found // it is a handler, and starts nothing
		}) {
			continue
		}
		b.Language, b.Kinds = l, kinds
		all = append(all, b)
	}
	// what is built is as good as what a file's name suggests: only what the folder itself declares comes before it
	built := slices.ContainsFunc(servers, func(c Candidate) bool { return len(c.Build) > 0 })
	if built && (len(all) == 0 || !all[0].declared) {
		every := append(append(servers, started(all)...), handlers...)
		return &Beginning{Kinds: kinds, Handlers: every, Choice: len(every) > 1}, nil
	}
	if len(all) > 0 {
		for _, o := range all[1:] {
			if all[0].Language == o.Language || slices.Contains(all[0].Start, o.Found) {
				continue // it is what the first one starts
			}
			all[0].Others = append(all[0].Others, fmt.Sprintf("%s (--lang %s)", o.Found, o.Language))
		}
		for _, c := range append(handlers, servers...) {
			all[0].Others = append(all[0].Others, fmt.Sprintf("%s (--functions %s)", c.Handler(), c.short()))
		}
		return all[0], nil
	}
	if handlers = append(handlers, servers...); len(handlers) > 0 {
		return &Beginning{Kinds: kinds, Handlers: handlers, Choice: len(handlers) > 1}, nil
	}
	if language == "" {
		for _, l := range Languages {
			if _, err := exec.LookPath(fresh[l].Start[0]); err == nil {
				language = l
				break
			}
		}
		if language == "" {
			return nil, fmt.Errorf("no function found here, and none of python3, node, go and java on the PATH to " +
				"create one; pass the command that starts yours: nightdrill init -- ./serve")
		}
	}
	b := fresh[language]
	b.Language, b.Kinds = language, kinds
	return &b, nil
}

// started returns servers that were found by the names of their files, or are declared, as candidates.
func started(all []*Beginning) (out []Candidate) {
	for _, b := range all {
		name := functionName(strings.TrimSuffix(filepath.Base(b.Found), filepath.Ext(b.Found)))
		out = append(out, Candidate{File: b.Found, Callable: name, Why: "a server by its name", Start: b.Start,
			Build: b.Build, Watch: b.Watch})
	}
	return out
}

// Everything returns all that a project in a folder can be around: handlers and servers.
func Everything(dir string) []Candidate {
	out := append(Candidates(dir), Servers(dir)...)
	var all []*Beginning
	if b := declared(dir); b != nil {
		all = append(all, b)
	}
	for _, l := range Languages {
		if b := find(dir, l); b != nil &&
			!slices.ContainsFunc(out, func(c Candidate) bool { return c.File == b.Found }) {
			all = append(all, b)
		}
	}
	return append(out, started(all)...)
}

// declared returns what the folder itself says is started: the web process of a Procfile, or the start script of a
// package.json; nil where neither does, or where it takes a shell.
func declared(dir string) *Beginning {
	text, _ := os.ReadFile(filepath.Join(dir, "Procfile"))
	for line := range strings.Lines(string(text)) {
		if command, ok := strings.CutPrefix(line, "web:"); ok {
			if words := plainWords(command); len(words) > 0 {
				return &Beginning{Start: words, Found: "Procfile", declared: true}
			}
		}
	}
	text, _ = os.ReadFile(filepath.Join(dir, "package.json"))
	var p struct{ Scripts struct{ Start string } }
	_ = json.Unmarshal(text, &p) // one that is broken says nothing
	if words := plainWords(p.Scripts.Start); len(words) > 0 {
		return &Beginning{Start: words, Found: "package.json", Language: "node", declared: true}
	}
	return nil
}

// plainWords returns the words of a command that needs no shell, with the port filled in; nil for another one.
func plainWords(command string) []string {
	command = strings.NewReplacer("${PORT}", "{port}", "$PORT", "{port}").Replace(command)
	if strings.ContainsAny(command, "$&|;<>\"'`\\*?()=~#") {
		return nil
	}
	return strings.Fields(command)
}

// fresh are the small new functions.
var fresh = map[string]Beginning{
	"python": {Start: []string{"python3", "function.py"}, New: "function.py"},
	"node":   {Start: []string{"node", "function.mjs"}, New: "function.mjs"},
	"go": {Start: []string{"./bin/function"}, Build: []string{"go", "build", "-o", "bin/function", "function.go"},
		Watch: []string{"function.go"}, New: "function.go"},
	"java": {Start: []string{"java", "Function.java"}, New: "Function.java"},
}

// template files of new functions
var freshText = map[string]string{"python": "new/function.py", "node": "new/function.mjs", "go": "new/main.go.txt",
	"java": "new/Function.java.txt"}

// find finds a function of a language, by the names that such files usually have.
func find(dir, language string) *Beginning {
	has := func(name string) bool {
		info, err := os.Stat(filepath.Join(dir, name))
		return err == nil && info.Mode().IsRegular()
	}
	pick := func(suffixes []string, names ...string) string {
		for _, n := range names {
			for _, s := range suffixes {
				for _, sub := range []string{"", "src/"} {
					if has(sub + n + s) {
						return sub + n + s
					}
				}
			}
		}
		only := ""
		for _, name := range filesIn(dir) {
			if slices.Contains(suffixes, filepath.Ext(name)) {
				if only != "" {
					return ""
				}
				only = name
			}
		}
		return only
	}
	switch language {
	case "python":
		if f := pick([]string{".py"}, "function", "main", "app", "server", "handler", "index"); f != "" {
			return &Beginning{Start: []string{"python3", f}, Found: f}
		}
	case "node":
		if f := nodeMain(dir); f != "" && has(f) {
			return &Beginning{Start: []string{"node", f}, Found: f}
		}
		if f := pick([]string{".mjs", ".js", ".cjs"}, "function", "index", "server", "app", "main",
			"handler"); f != "" {
			return &Beginning{Start: []string{"node", f}, Found: f}
		}
	case "go":
		if has("go.mod") && (has("main.go") || has("function.go")) {
			name := filepath.Base(dir)
			return &Beginning{Start: []string{"./bin/" + name}, Build: []string{"go", "build", "-o", "bin/" + name,
				"."}, Watch: []string{"**/*.go", "go.mod"}, Found: "go.mod"}
		}
	case "java":
		for _, sub := range []string{"", "target", "build/libs"} {
			for _, name := range filesIn(filepath.Join(dir, sub)) {
				if filepath.Ext(name) == ".jar" {
					jar := filepath.ToSlash(filepath.Join(sub, name))
					return &Beginning{Start: []string{"java", "-jar", jar}, Found: jar}
				}
			}
		}
		if f := pick([]string{".java"}, "Function", "Main", "App", "Server"); f != "" &&
			startsItself(filepath.Join(dir, f)) {
			return &Beginning{Start: []string{"java", f}, Found: f}
		}
	}
	return nil
}

// startsItself reports whether a source in Java is more than a class that something else has to call.
func startsItself(path string) bool {
	text, err := os.ReadFile(path)
	return err == nil && (inJava(text).Serves || !javaClass.Match(text))
}

// nodeMain returns the file that package.json names.
func nodeMain(dir string) string {
	text, err := os.ReadFile(filepath.Join(dir, "package.json"))
	if err != nil {
		return ""
	}
	var p struct{ Main string }
	_ = json.Unmarshal(text, &p) // one that is broken names none
	return p.Main
}

// Files returns the files that Lay would make, relative to the folder.
func (b *Beginning) Files() (names []string) {
	names = append(names, File)
	if b.New != "" {
		names = append(names, b.New)
	}
	for _, k := range b.Kinds {
		if k == "http" && len(b.Handlers) > 1 { // each has a path of its own
			for _, name := range namesOf(b.Handlers) {
				names = append(names, requestFile(name))
			}
		} else if file := firstPayload[k]; file != "" {
			names = append(names, file)
		}
	}
	return names
}

func requestFile(name string) string { return "payloads/web/" + name + ".request" }

// firstPayload is the file of the first payload of each kind of source; a
// schedule makes its own.
var firstPayload = map[string]string{"http": "payloads/web/tide.request", "queue": "payloads/jobs/job.event.json",
	"storage": "payloads/uploads/note.event.json", "stream": "payloads/readings/reading.event.json"}

const noteEvent = `{
  "specversion": "1.0",
  "id": "note-1",
  "source": "/desk",
  "type": "note.written",
  "subject": "notes/first.txt",
  "datacontenttype": "text/plain",
  "data": "two gulls, one tern\n"
}
`

const readingEvent = `{
  "specversion": "1.0",
  "id": "reading-1",
  "source": "/quay",
  "type": "water.read",
  "datacontenttype": "application/json",
  "data": {"gauge": "quay-1", "metres": 1.4}
}
`

const tideRequest = "GET /tides/quay-1 HTTP/1.1\nAccept: application/json\n\n"

const jobEvent = `{
  "specversion": "1.0",
  "id": "job-1",
  "source": "/jobs",
  "type": "job.wanted",
  "time": "2026-01-05T08:00:00Z",
  "datacontenttype": "application/json",
  "data": {"job": "count", "of": ["gulls", "terns"]}
}
`

// Lay writes the project's files. It overwrites none: where one is there, none
// is written.
func (b *Beginning) Lay(dir string) error {
	for _, name := range b.Files() {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return fmt.Errorf("%s already exists and is not overwritten; nothing was written", name)
		}
	}
	name := functionName(dir)
	if len(b.Handlers) > 0 {
		name = namesOf(b.Handlers)[0]
	}
	list := func(words []string) string {
		if len(words) == 0 {
			return ""
		}
		quoted := make([]string, len(words))
		for i, w := range words {
			text, _ := json.Marshal(w) // a string always marshals
			quoted[i] = string(text)
		}
		return "[" + strings.Join(quoted, ", ") + "]"
	}
	values := map[string]any{"Project": functionName(dir), "Name": name, "Functions": b.functions(name, list),
		"HTTP": slices.Contains(b.Kinds, "http"), "Queue": slices.Contains(b.Kinds, "queue"),
		"Storage": slices.Contains(b.Kinds, "storage"),
		"Stream":  slices.Contains(b.Kinds, "stream"), "Schedule": slices.Contains(b.Kinds, "schedule")}
	texts := map[string]string{firstPayload["http"]: tideRequest, firstPayload["queue"]: jobEvent,
		firstPayload["storage"]: noteEvent, firstPayload["stream"]: readingEvent}
	for i, f := range namesOf(b.Handlers) {
		if len(b.Handlers) > 1 {
			texts[requestFile(f)] = b.Handlers[i].request("/" + f + "/tides/quay-1")
		} else {
			texts[firstPayload["http"]] = b.Handlers[i].request("/tides/quay-1")
		}
	}
	var err error
	if texts[File], err = render("new/nightdrill.yaml.txt", values); err != nil {
		return err
	}
	if b.New != "" {
		if texts[b.New], err = render(freshText[b.Language], values); err != nil {
			return err
		}
	}
	for _, f := range b.Files() {
		path := filepath.Join(dir, filepath.FromSlash(f))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return fmt.Errorf("%s cannot be written: %w", f, Cause(err))
		}
		file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err == nil {
			_, err = file.WriteString(texts[f])
			err = errors.Join(err, file.Close())
		}
		if err != nil {
			return fmt.Errorf("%s cannot be written: %w", f, Cause(err))
		}
	}
	return nil
}

// laid is a function as the project's file has it.
type laid struct{ Name, Start, Build, Watch, Handler, Takes, Path string }

func (b *Beginning) functions(name string, list func([]string) string) (out []laid) {
	if len(b.Handlers) == 0 {
		return []laid{{Name: name, Start: list(b.Start), Build: list(b.Build), Watch: list(b.Watch)}}
	}
	for i, n := range namesOf(b.Handlers) {
		handler, _ := json.Marshal(b.Handlers[i].Handler()) // a string always marshals
		x := laid{Name: n, Handler: string(handler), Takes: b.Handlers[i].Takes.String(),
			Build: list(b.Handlers[i].Build), Watch: list(b.Handlers[i].Watch)}
		if start := b.Handlers[i].Start; len(start) > 0 {
			x.Handler, x.Takes, x.Start = "", "", list(start)
		}
		if len(b.Handlers) > 1 {
			x.Path = "/" + n + "/{rest...}"
		}
		out = append(out, x)
	}
	return out
}

// namesOf returns a name for the function of each handler: that of the callable, or of its file where that says
// nothing or is taken.
func namesOf(all []Candidate) (out []string) {
	for i := range all {
		file := functionName(strings.TrimSuffix(all[i].File, filepath.Ext(all[i].File)))
		name := functionName(strings.ReplaceAll(all[i].short(), "_", "-"))
		if slices.Contains([]string{"handler", "handle", "default", "main", "run"}, name) {
			name = file
		}
		if slices.Contains(out, name) {
			name = file + "-" + name
		}
		for n, first := 2, name; slices.Contains(out, name); n++ {
			name = fmt.Sprintf("%s-%d", first, n)
		}
		out = append(out, name)
	}
	return out
}

func render(name string, values any) (string, error) {
	text, err := fs.ReadFile(newFiles, name)
	if err != nil {
		return "", err
	}
	t, err := template.New(name).Parse(string(text))
	if err != nil {
		return "", err
	}
	var b strings.Builder
	err = t.Execute(&b, values)
	return b.String(), err
}

// functionName makes a name for the function of the folder's.
func functionName(dir string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, filepath.Base(dir))
	name = strings.Trim(name, "-")
	switch {
	case name == "":
		return "function"
	case name[0] >= '0' && name[0] <= '9': // a name begins with a letter
		return "function-" + name
	}
	return name
}
