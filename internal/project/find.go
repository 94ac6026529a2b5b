package project

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	_ "embed"

	"nightdrill.dev/internal/core/plan"
)

// Candidate is a callable in a folder that can be a handler.
type Candidate struct {
	Language plan.Language
	File     string // within the folder, with slashes
	Callable string
	Takes    plan.Takes
	Why      string   // it can be one
	Reads    []string // of what it gets, as paths such as query/to, where that can be seen
	Start    []string // the command of a server, which is no handler
	Watch    []string // what makes a version of a server
	Build    []string // what compiles it; nil for languages that need none of their own
	Classes  string   // the folder that it is compiled to; "" where there is none
}

// Handler returns the candidate in the form of the setting.
func (c *Candidate) Handler() string {
	if len(c.Start) > 0 {
		return strings.Join(c.Start, " ")
	}
	if c.Classes != "" {
		return c.Classes + ":" + c.Callable
	}
	return c.File + ":" + c.Callable
}

// short returns the last of the callable's names.
func (c *Candidate) short() string { return c.Callable[strings.LastIndexByte(c.Callable, '.')+1:] }

// callable is what a language's reader found in a file.
type callable struct {
	Name   string   `json:"name"`
	Params []string `json:"params"` // those that it needs

	Reads []string `json:"reads"` // the paths of what it takes out of the first of them, where that can be seen

	Exchange bool `json:"-"` // in Java, it takes an HttpExchange
}

// ofFile is what was found in a file.
type ofFile struct {
	Callables []callable `json:"callables"`
	Serves    bool       `json:"serves"` // it starts a server itself
}

// Bounds of the search for handlers.
const (
	mostFilesRead   = 400
	largestFileRead = 1 << 20
	deepestFolder   = 3
)

// mavenSources is where builds of Java have their sources by custom.
const mavenSources = "src/main/java/"

// sources are the languages of what is read, by the endings of the files.
var sources = func() map[string]plan.Language {
	out := maps.Clone(languages)
	delete(out, "")
	delete(out, ".jar")
	out[".java"] = plan.Java
	return out
}()

// notRead are folders in which no handlers of the project are.
var notRead = []string{"node_modules", "vendor", "venv", "testdata", "test", "tests", "dist", "build", "target", "bin",
	"__pycache__"}

// Candidates finds callables in a folder that can be handlers: in Python by its own parser, in Go by Go's, in
// JavaScript by the form of its exports. Nothing of what is found is run.
func Candidates(dir string) (out []Candidate) {
	of := map[plan.Language][]string{}
	n := 0
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error { // what cannot be read has none
		rel, _ := filepath.Rel(dir, path)
		switch {
		case err != nil || rel == ".":
			return nil
		case d.IsDir():
			if slices.Contains(notRead, d.Name()) || d.Name()[0] == '.' ||
				strings.Count(strings.TrimPrefix(filepath.ToSlash(rel), mavenSources), "/") >= deepestFolder {
				return filepath.SkipDir
			}
			return nil
		}
		language := sources[filepath.Ext(path)]
		base := strings.TrimSuffix(d.Name(), filepath.Ext(path))
		if language == plan.NoLanguage || !d.Type().IsRegular() || strings.HasSuffix(base, "_test") ||
			strings.HasPrefix(base, "test_") || strings.HasSuffix(base, ".test") || strings.HasSuffix(base, ".d") ||
			strings.HasSuffix(
				base,
				"Test",
			) || strings.HasSuffix(base, ".config") || base == "setup" || base == "conftest" {
			return nil
		}
		if info, err := d.Info(); err != nil || info.Size() > largestFileRead {
			return nil
		}
		if n++; n > mostFilesRead {
			return filepath.SkipAll
		}
		of[language] = append(of[language], rel)
		return nil
	})
	for _, language := range []plan.Language{plan.Python, plan.Node, plan.Go, plan.Java} {
		found := map[string]ofFile{}
		switch language {
		case plan.Python:
			found = inPython(dir, of[language])
		case plan.Node:
			for _, file := range of[language] {
				if text, err := os.ReadFile(filepath.Join(dir, file)); err == nil {
					found[file] = inJavaScript(text)
				}
			}
		case plan.Java:
			for _, file := range of[language] {
				if text, err := os.ReadFile(filepath.Join(dir, file)); err == nil {
					found[file] = inJava(text)
				}
			}
		case plan.Go:
			if len(of[language]) == 0 {
				continue
			}
			for _, file := range of[language] {
				if text, err := os.ReadFile(filepath.Join(dir, file)); err == nil {
					found[file] = inGo(text)
				}
			}
			if serving := slices.ContainsFunc(of[language], func(f string) bool { return found[f].Serves }); serving {
				continue // the module is a server, and what it exports is for it
			}
		}
		for _, file := range of[language] {
			if x := found[file]; !x.Serves {
				out = append(out, candidates(language, filepath.ToSlash(file), x.Callables)...)
			}
		}
	}
	for i := range out {
		if c := &out[i]; c.Language == plan.Java {
			c.compiled(dir)
		}
	}
	return out
}

// What the parameters of handlers are usually called.
var (
	eventWords = []string{"event", "request", "req", "message", "msg", "data", "payload", "body", "record", "records",
		"evt"}
	moreWords = []string{"context", "ctx", "_context", "_ctx", "_"}
)

// candidates returns those callables of a file that can be handlers, the reason with each.
func candidates(language plan.Language, file string, all []callable) (out []Candidate) {
	for _, c := range all {
		x := Candidate{Language: language, File: file, Callable: c.Name, Reads: c.Reads}
		p := make([]string, len(c.Params))
		for i, name := range c.Params {
			p[i] = strings.ToLower(name)
		}
		list := strings.Join(c.Params, ", ")
		switch {
		case slices.Equal(p, []string{"environ", "start_response"}),
			slices.Equal(p, []string{"scope", "receive", "send"}),
			slices.Equal(p, []string{"req", "res"}), slices.Equal(p, []string{"request", "response"}),
			language == plan.Go && slices.Equal(c.Params, []string{"http.ResponseWriter", "*http.Request"}),
			language == plan.Java && len(c.Params) == 1 && c.Exchange:
			x.Takes, x.Why = plan.TakesRequest, "it takes a request: "+list
		case language == plan.Go && len(p) > 0 && len(p) <= 2 && (len(p) == 1) == (p[0] != "context.context"):
			x.Takes, x.Why = plan.TakesData, "it takes one value: "+list
		case language != plan.Go && (len(p) == 1 || len(p) == 2 && slices.Contains(moreWords, p[1])) &&
			slices.Contains(eventWords, p[0]):
			x.Why = "its parameters are called " + list
		case language != plan.Go && len(p) == 2 && slices.Contains(moreWords, p[1]):
			x.Why = "its second parameter is called " + c.Params[1]
		default:
			continue
		}
		if x.Takes == plan.TakesEvent && len(c.Reads) > 0 && !slices.ContainsFunc(c.Reads, partOfEvent) {
			x.Takes, x.Why = plan.TakesData, x.Why+"; it reads "+listed(c.Reads[:min(len(c.Reads), 3)])
		}
		out = append(out, x)
	}
	return out
}

// partOfEvent reports whether a path is in what a handler gets of an event or a request, and not in its data.
func partOfEvent(path string) bool {
	first, _, _ := strings.Cut(path, "/")
	return slices.Contains(
		[]string{"method", "path", "query", "headers", "body", "data", "id", "source", "type", "subject",
			"time", "datacontenttype", "specversion"},
		first,
	)
}

//go:embed new/callables.py
var pythonReader []byte

// inPython reads Python files by Python's own parser.
func inPython(dir string, files []string) map[string]ofFile {
	out := map[string]ofFile{}
	if len(files) == 0 {
		return out
	}
	names, _ := json.Marshal(files) // strings always marshal
	cmd := exec.Command("python3", "-I", "-c", string(pythonReader))
	cmd.Dir, cmd.Stdin = dir, bytes.NewReader(names)
	if text, err := cmd.Output(); err == nil { // without Python there is nothing to run them with either
		_ = json.Unmarshal(text, &out)
	}
	return out
}

var (
	exported = regexp.MustCompile(
		`(?m)^export\s+(?:default\s+)?(?:async\s+)?function\s*\*?\s*([\p{L}_$][\p{L}\p{N}_$]*)?\s*` +
			`(?:<[^>]*>)?\(([^)]*)\)`)
	exportedConst = regexp.MustCompile(
		`(?m)^(?:export\s+const\s+|(?:module\.)?exports\.)([\p{L}_$][\p{L}\p{N}_$]*)\s*=\s*` +
			`(?:async\s+)?(?:function\b[^(]*)?\(([^)]*)\)`)
	exportsAll = regexp.MustCompile(`(?m)^module\.exports\s*=\s*()(?:async\s*)?(?:function\b[^(]*)?\(([^)]*)\)`)
	listens    = regexp.MustCompile(`\.listen\s*\(`)
)

// inJavaScript reads a file by the form of what it exports.
func inJavaScript(text []byte) (out ofFile) {
	out.Serves = listens.Match(text)
	for _, form := range []*regexp.Regexp{exported, exportedConst, exportsAll} {
		for _, m := range form.FindAllSubmatch(text, -1) {
			c := callable{Name: string(m[1])}
			if c.Name == "" || bytes.Contains(m[0], []byte("default")) {
				c.Name = "default"
			}
			for p := range strings.SplitSeq(string(m[2]), ",") {
				p, _, _ = strings.Cut(p, ":") // the type, in TypeScript
				if p = strings.TrimSpace(p); p != "" && !strings.Contains(p, "=") {
					c.Params = append(c.Params, p)
				}
			}
			if len(c.Params) > 0 {
				c.Reads = readsInJavaScript(text, c.Params[0])
			}
			out.Callables = append(out.Callables, c)
		}
	}
	return out
}

// readsInJavaScript returns the parts of a parameter that a file names, such as event.query.to.
func readsInJavaScript(text []byte, parameter string) (out []string) {
	name := regexp.MustCompile(
		`\b` + regexp.QuoteMeta(parameter) + `\??\.(query|body|data)\??\.([\p{L}_$][\p{L}\p{N}_$]*)\b`,
	)
	for _, m := range name.FindAllSubmatch(text, -1) {
		if path := string(m[1]) + "/" + string(m[2]); !slices.Contains(out, path) {
			out = append(out, path)
		}
	}
	return out
}

// inGo reads a Go file; the parameters are their types.
func inGo(text []byte) (out ofFile) {
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, "", text, parser.SkipObjectResolution)
	if err != nil {
		return out
	}
	out.Serves = bytes.Contains(text, []byte("ListenAndServe")) || bytes.Contains(text, []byte("net.Listen("))
	for _, d := range tree.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || f.Recv != nil || !f.Name.IsExported() || f.Type.TypeParams != nil ||
			!handlersResults(f.Type.Results) {
			continue
		}
		c := callable{Name: f.Name.Name, Reads: fieldsInGo(tree, f)}
		for _, p := range f.Type.Params.List {
			for range max(len(p.Names), 1) {
				c.Params = append(c.Params, string(
					text[set.Position(p.Type.Pos()).Offset:set.Position(p.Type.End()).Offset]))
			}
		}
		if request := slices.Equal(c.Params, []string{"http.ResponseWriter", "*http.Request"}); request ||
			f.Type.Results.NumFields() > 0 {
			out.Callables = append(out.Callables, c)
		}
	}
	return out
}

var (
	javaPackage = regexp.MustCompile(`(?m)^\s*package\s+([\w.]+)\s*;`)
	javaClass   = regexp.MustCompile(`(?m)^\s*(?:(?:public|final|abstract)\s+)*(?:class|record|enum)\s+(\w+)`)
	javaMethod  = regexp.MustCompile(`(?m)^[ \t]*public\s+(?:(?:static|final|synchronized)\s+)*` +
		`(?:<[^>]+>\s*)?[\w.<>\[\], ?]+\s+(\w+)\s*\(([^)]*)\)\s*(?:throws\s+[\w., ]+)?\{`)
	javaServes  = regexp.MustCompile(`\bvoid\s+main\s*\(|\bServerSocket\b|\bHttpServer\b`)
	javaGeneric = regexp.MustCompile(`<[^<>]*>`)
)

// inJava reads a file by the form of the public methods of its first class.
func inJava(text []byte) (out ofFile) {
	class := javaClass.FindSubmatch(text)
	if out.Serves = javaServes.Match(text); class == nil {
		return out
	}
	name := string(class[1])
	if m := javaPackage.FindSubmatch(text); m != nil {
		name = string(m[1]) + "." + name
	}
	for _, m := range javaMethod.FindAllSubmatch(text, -1) {
		c := callable{Name: name + "." + string(m[1])}
		list := string(m[2])
		for javaGeneric.MatchString(list) { // whose commas part nothing
			list = javaGeneric.ReplaceAllString(list, "")
		}
		for p := range strings.SplitSeq(list, ",") {
			if words := strings.Fields(p); len(words) > 1 {
				kind, name := words[len(words)-2], words[len(words)-1]
				if strings.HasSuffix(kind, "Context") { // its type says what it is
					name = "context"
				}
				c.Params = append(c.Params, name)
				c.Exchange = c.Exchange || strings.HasSuffix(kind, "HttpExchange")
			}
		}
		out.Callables = append(out.Callables, c)
	}
	return out
}

// compiled sets what compiles a candidate in Java, by the build that the folder has, and where to.
func (c *Candidate) compiled(dir string) {
	has := func(name string) bool {
		_, err := os.Stat(filepath.Join(dir, name))
		return err == nil
	}
	switch {
	case has("pom.xml"):
		c.Build, c.Classes = []string{"mvn", "-q", "compile"}, "target/classes"
	case has("gradlew"):
		c.Build, c.Classes = []string{"./gradlew", "-q", "classes"}, "build/classes/java/main"
	case has("build.gradle"), has("build.gradle.kts"):
		c.Build, c.Classes = []string{"gradle", "-q", "classes"}, "build/classes/java/main"
	default:
		class, _, _ := strings.Cut(strings.ReplaceAll(c.Callable, ".", "/")+"/", "/"+c.short()+"/")
		root := strings.TrimSuffix(strings.TrimSuffix(c.File, ".java"), class)
		if root = strings.TrimSuffix(root, "/"); root == "" {
			root = "."
		}
		c.Build, c.Classes = []string{"javac", "-d", "build/classes", "-sourcepath", root, c.File}, "build/classes"
	}
}

// fieldsInGo returns the fields of the struct that a handler's last parameter is, as their JSON has them, where the
// file has its type.
func fieldsInGo(tree *ast.File, f *ast.FuncDecl) (out []string) {
	all := f.Type.Params.List
	if len(all) == 0 {
		return nil
	}
	name, ok := all[len(all)-1].Type.(*ast.Ident)
	if !ok {
		return nil
	}
	for _, d := range tree.Decls {
		general, _ := d.(*ast.GenDecl)
		if general == nil {
			continue
		}
		for _, s := range general.Specs {
			t, _ := s.(*ast.TypeSpec)
			if t == nil || t.Name.Name != name.Name {
				continue
			}
			fields, _ := t.Type.(*ast.StructType)
			if fields == nil {
				return nil
			}
			for _, field := range fields.Fields.List {
				kind, _ := field.Type.(*ast.Ident)
				for _, n := range field.Names {
					as := n.Name
					if field.Tag != nil {
						tag := reflect.StructTag(strings.Trim(field.Tag.Value, "`"))
						if own, _, _ := strings.Cut(tag.Get("json"), ","); own != "" {
							as = own
						}
					}
					if kind != nil {
						as += ":" + kind.Name
					}
					out = append(out, as)
				}
			}
		}
	}
	return out
}

// handlersResults reports whether results are those of a handler: nothing, or one value and an error.
func handlersResults(r *ast.FieldList) bool {
	n := r.NumFields()
	if n == 0 {
		return true
	}
	last, ok := r.List[len(r.List)-1].Type.(*ast.Ident)
	return n <= 2 && ok && last.Name == "error"
}

// Choose returns a beginning around some of the candidates: those of these names, or all of them.
func Choose(all []Candidate, names, kinds []string) (*Beginning, error) {
	b := &Beginning{Kinds: kinds}
	if len(kinds) == 0 {
		b.Kinds = Kinds[:1]
	}
	add := func(c Candidate) {
		if !slices.ContainsFunc(b.Handlers, func(x Candidate) bool { return x.Handler() == c.Handler() }) {
			b.Handlers = append(b.Handlers, c)
		}
	}
	for _, name := range names {
		at := slices.IndexFunc(all, func(c Candidate) bool {
			return c.short() == name || c.Callable == name || c.Handler() == name
		})
		switch {
		case name == "all" && len(all) > 0:
			for _, c := range all {
				add(c)
			}
		case at < 0:
			var known []string
			for i := range all {
				known = append(known, all[i].Handler())
			}
			if len(known) == 0 {
				return nil, fmt.Errorf("no handlers were found here, so not %q either; pass the command that starts "+
					"yours: nightdrill init -- ./serve", name)
			}
			return nil, fmt.Errorf("no callable %q was found; found: %s", name, listed(known))
		default:
			add(all[at])
		}
	}
	return b, nil
}
