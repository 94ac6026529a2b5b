package project

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/plan"
)

var (
	cargoSection = regexp.MustCompile(`(?m)^\s*\[(\[?[\w.-]+\]?)\]`)
	cargoName    = regexp.MustCompile(`(?m)^\s*name\s*=\s*"([^"]+)"`)
	makeTarget   = regexp.MustCompile(`(?m)^(run|serve|server|start|dev)\s*:(?:[^=]|$)`)
	goMain       = regexp.MustCompile(`(?m)^package main\b`)
)

// Servers finds what a folder has that listens by itself and has to be built or is begun by a tool: the binaries of a
// Cargo package, the commands of a Go module, the processes of a Procfile and targets of a Makefile. Nothing of it
// is run.
func Servers(dir string) (out []Candidate) {
	read := func(name string) string {
		text, _ := os.ReadFile(filepath.Join(dir, name)) // what is not there has nothing
		return string(text)
	}
	for _, name := range cargoBinaries(read("Cargo.toml"), dir) {
		out = append(out, Candidate{File: "Cargo.toml", Callable: name, Why: "a binary of Cargo.toml",
			Build: []string{"cargo", "build", "--release", "--bin", name}, Start: []string{"./target/release/" + name},
			Watch: []string{"src/**/*.rs", "Cargo.toml"}})
	}
	if read("go.mod") != "" || fileThere(dir, "go.mod") {
		entries, _ := os.ReadDir(filepath.Join(dir, "cmd"))
		for _, e := range entries {
			files, _ := filepath.Glob(filepath.Join(dir, "cmd", e.Name(), "*.go"))
			if !slices.ContainsFunc(files, func(f string) bool {
				text, _ := os.ReadFile(f)
				return goMain.Match(text)
			}) {
				continue
			}
			name := e.Name()
			out = append(out, Candidate{Language: plan.Go, File: "cmd/" + name, Callable: name,
				Why: "a command of the Go module", Build: []string{"go", "build", "-o", "bin/" + name, "./cmd/" + name},
				Start: []string{"./bin/" + name}, Watch: []string{"**/*.go", "go.mod"}})
		}
	}
	for line := range strings.Lines(read("Procfile")) {
		name, command, ok := strings.Cut(line, ":")
		if words := plainWords(command); ok && len(words) > 0 && name != "web" && slices.ContainsFunc(words,
			func(w string) bool { return strings.Contains(w, "{port}") }) {
			out = append(out, Candidate{File: "Procfile", Callable: name, Why: "a process of the Procfile with a port",
				Start: words})
		}
	}
	for _, m := range makeTarget.FindAllStringSubmatch(read("Makefile"), -1) {
		out = append(out, Candidate{File: "Makefile", Callable: m[1], Why: "a target of the Makefile",
			Start: []string{"make", "-s", m[1]}})
	}
	return out
}

func fileThere(dir, name string) bool {
	_, err := os.Stat(filepath.Join(dir, name))
	return err == nil
}

// cargoBinaries returns the names of a Cargo package's binaries.
func cargoBinaries(text, dir string) (out []string) {
	sections := cargoSection.FindAllStringSubmatchIndex(text, -1)
	for i, s := range sections {
		end := len(text)
		if i+1 < len(sections) {
			end = sections[i+1][0]
		}
		section := text[s[2]:s[3]]
		name := cargoName.FindStringSubmatch(text[s[1]:end])
		if name == nil || section != "[bin]" && (section != "package" || !fileThere(dir, "src/main.rs")) ||
			slices.Contains(out, name[1]) {
			continue
		}
		out = append(out, name[1])
	}
	return out
}

// request returns a first request for a candidate, with what it reads as far as that can be seen.
func (c *Candidate) request(path string) string {
	var query []string
	body := map[string]any{}
	for _, r := range c.Reads {
		r, kind, _ := strings.Cut(r, ":")
		parts := strings.Split(r, "/")
		switch {
		case c.Takes == plan.TakesData:
		case len(parts) == 2 && parts[0] == "query":
			query = append(query, parts[1]+"=1")
			continue
		case len(parts) >= 2 && (parts[0] == "body" || parts[0] == "data"):
			parts = parts[1:]
		default:
			continue
		}
		at := body
		for _, name := range parts[:len(parts)-1] {
			if next, ok := at[name].(map[string]any); ok {
				at = next
				continue
			}
			next := map[string]any{}
			at[name], at = next, next
		}
		if _, ok := at[parts[len(parts)-1]].(map[string]any); !ok {
			at[parts[len(parts)-1]] = exampleOf(kind)
		}
	}
	if len(query) > 0 {
		path += "?" + strings.Join(query, "&")
	}
	if len(body) == 0 {
		return "GET " + path + " HTTP/1.1\nAccept: application/json\n\n"
	}
	text, _ := json.MarshalIndent(body, "", "  ") // texts and numbers always marshal
	return "POST " + path + " HTTP/1.1\nContent-Type: application/json\nAccept: application/json\n\n" + string(
		text,
	) + "\n"
}

// exampleOf returns a value of a type of Go's or Java's; a text for one that is not known.
func exampleOf(kind string) any {
	switch kind {
	case "int", "int8", "int16", "int32", "int64", "uint", "uint8", "uint16", "uint32", "uint64", "float32", "float64",
		"long", "double", "float", "short", "byte", "Integer", "Long", "Double":
		return 1
	case "bool", "boolean", "Boolean":
		return true
	}
	return "1"
}
