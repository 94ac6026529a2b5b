// Package anatomy looks at a start from outside: at the threads of the function and its children, and at what the
// runtimes themselves report of what they load.
package anatomy

import (
	"debug/buildinfo"
	_ "embed"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/plan"
)

//go:embed hook.cjs
var hook []byte

// Tree makes a runtime report what it loads, by its own switches in the environment.
type Tree struct {
	Language string
	Env      []string
	dir      string // for its files; "" where there are none
	lines    []string
	from     string   // the function's folder
	entries  []string // what its command names, as paths
}

var runtimes = []struct {
	language string
	command  *regexp.Regexp
}{
	{"Python", regexp.MustCompile(`^(python|pypy)[\d.]*$`)},
	{"Node", regexp.MustCompile(`^node(js)?[\d.]*$`)},
	{"Java", regexp.MustCompile(`^java$`)},
}

// LanguageOf returns the language whose runtime a function is started with; "" for none that reports what it loads.
func LanguageOf(f *plan.Function) string {
	if len(f.Start) == 0 {
		return ""
	}
	base := filepath.Base(f.Start[0])
	for _, r := range runtimes {
		if r.command.MatchString(base) {
			return r.language
		}
	}
	path := f.Start[0]
	if !strings.ContainsRune(path, filepath.Separator) {
		if found, err := exec.LookPath(path); err == nil {
			path = found
		}
	} else if !filepath.IsAbs(path) {
		path = filepath.Join(f.Dir, path)
	}
	if _, err := buildinfo.ReadFile(path); err == nil {
		return "Go"
	}
	return ""
}

// NewTree prepares the report of a function's runtime; nil where it has none. Close removes its files.
func NewTree(f *plan.Function) (*Tree, error) {
	t := &Tree{Language: LanguageOf(f), from: f.Dir}
	for _, arg := range f.Start {
		if path := filepath.Join(f.Dir, arg); filepath.IsAbs(arg) {
			t.entries = append(t.entries, arg)
		} else {
			t.entries = append(t.entries, path)
		}
	}
	switch t.Language {
	case "":
		return nil, nil
	case "Python":
		t.Env = []string{"PYTHONPROFILEIMPORTTIME=1"}
		return t, nil
	case "Go":
		t.Env = []string{"GODEBUG=" + joined(f.Env, "GODEBUG", ",", "inittrace=1")}
		return t, nil
	}
	dir, err := os.MkdirTemp("", "nightdrill-")
	if err != nil {
		return nil, err
	}
	t.dir = dir
	switch t.Language {
	case "Node":
		file := filepath.Join(dir, "hook.cjs")
		if err := os.WriteFile(file, hook, 0o600); err != nil {
			t.Close()
			return nil, err
		}
		t.Env = []string{"NIGHTDRILL_TREE=" + t.report(),
			"NODE_OPTIONS=" + joined(f.Env, "NODE_OPTIONS", " ", fmt.Sprintf("--require %q", file))}
	case "Java":
		t.Env = []string{"JDK_JAVA_OPTIONS=" + joined(f.Env, "JDK_JAVA_OPTIONS", " ",
			"-Xlog:class+load:file="+t.report()+":uptimenanos:filecount=0")}
	}
	return t, nil
}

func (t *Tree) report() string { return filepath.Join(t.dir, "report") }

// joined adds a switch to a variable of a function's environment, or of the program's.
func joined(env []string, name, by, more string) string {
	value := os.Getenv(name)
	for _, e := range env {
		if v, ok := strings.CutPrefix(e, name+"="); ok {
			value = v
		}
	}
	if value == "" {
		return more
	}
	return value + by + more
}

// Hear takes a line of the function's output.
func (t *Tree) Hear(line string) {
	const most = 100_000
	if len(t.lines) < most {
		t.lines = append(t.lines, line)
	}
}

// Imports returns what was loaded until the function was ready, after so long.
func (t *Tree) Imports(ready time.Duration) (out []anatomy.Import) {
	switch t.Language {
	case "Python":
		out, _ = anatomy.PythonImports(t.lines)
	case "Go":
		out, _ = anatomy.GoInits(t.lines)
	default:
		content, _ := os.ReadFile(t.report()) // one that is not there has nothing
		if t.Language == "Node" {
			out = t.beneath(anatomy.NodeModules(string(content)))
		} else {
			out = anatomy.JavaClasses(string(content), ready)
		}
	}
	return out
}

// beneath returns modules without the one that the command names, which imports and is not imported, and with their
// names from the function's folder.
func (t *Tree) beneath(all []anatomy.Import) (out []anatomy.Import) {
	place := make([]int, len(all))
	for i := range all {
		name := strings.TrimPrefix(all[i].Name, "file://")
		if decoded, err := url.PathUnescape(name); err == nil {
			name = decoded
		}
		if place[i] = -1; slices.Contains(t.entries, name) || filepath.Base(name) == "nightdrill_loader.mjs" {
			continue
		}
		place[i] = len(out)
		x := all[i]
		if rel, err := filepath.Rel(t.from, name); err == nil && filepath.IsLocal(rel) {
			name = rel
		}
		x.Name = name
		out = append(out, x)
	}
	for i := range all {
		if k := place[i]; k >= 0 {
			if out[k].Parent = -1; all[i].Parent >= 0 {
				out[k].Parent = place[all[i].Parent]
			}
		}
	}
	return out
}

// Close removes what the report needed.
func (t *Tree) Close() {
	if t.dir != "" {
		_ = os.RemoveAll(t.dir) // in the system's place for such
	}
}

var importForms = map[string]string{
	"Python": `(?m)^[ \t]*(?:import|from)[ \t]+(?:[\w.]+[ \t]*,[ \t]*)*%s\b`,
	"Node":   `(?m)(?:\bfrom[ \t]+|\bimport[ \t]*\(?[ \t]*|\brequire[ \t]*\([ \t]*)['"](?:[^'"]*/)?%s(?:/[^'"]*)?['"]`,
}

// ImportedBy returns the place in the files of a function that imports a module, such as quote/rates.py:3; "" where
// there is none.
func ImportedBy(language, module, dir string, files []string) string {
	form, ok := importForms[language]
	if !ok {
		return ""
	}
	name := module
	if language == "Node" {
		name = packageOf(module)
	}
	re, err := regexp.Compile(fmt.Sprintf(form, regexp.QuoteMeta(name)))
	if err != nil {
		return ""
	}
	for _, file := range files {
		text, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
		if err != nil {
			continue
		}
		if at := re.FindIndex(text); at != nil {
			line := 1 + strings.Count(string(text[:at[0]]), "\n")
			if text[at[0]] == '\n' {
				line++
			}
			return fmt.Sprintf("%s:%d", file, line)
		}
	}
	return ""
}

// packageOf returns the package of a module of Node, or the name of its file.
func packageOf(path string) string {
	parts := strings.Split(filepath.ToSlash(path), "/")
	if at := slices.Index(parts, "node_modules"); at >= 0 && at+1 < len(parts) {
		if strings.HasPrefix(parts[at+1], "@") && at+2 < len(parts) {
			return parts[at+1] + "/" + parts[at+2]
		}
		return parts[at+1]
	}
	base := parts[len(parts)-1]
	return strings.TrimSuffix(base, filepath.Ext(base))
}
