package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is not written anywhere, and what is written in its place. hint is a part of the phrase
// that is quick to look for.
var struckOut = []struct {
	hint   string
	phrase *regexp.Regexp
	better string
}{
	{"away", regexp.MustCompile(`(?i)\bturn(ed|s) (everything )?away\b`), "reject"},
	{"hand", regexp.MustCompile(`(?i)\bhand(ed|s) over\b|\bhand-overs?\b`), "dispatch, attempt"},
	{"body", regexp.MustCompile(`\b([Nn]o|[Ss]ome)body\b`), "no one, someone, elsewhere"},
	{" of", regexp.MustCompile(`(?i)\btold of\b|\btells of\b`), "report, emit"},
	{"roken off", regexp.MustCompile(`(?i)\bbroken off\b`), "interrupted"},
	{"end", regexp.MustCompile(`(?i)\bmend(s|ed)?\b`), "fix"},
	{" go of", regexp.MustCompile(`(?i)\blet(s)? go of\b`), "free, release"},
	{"orked out", regexp.MustCompile(`(?i)\bworked out\b`), "compute"},
	{"tracks", regexp.MustCompile(`(?i)\bin (its|their) tracks\b`), "in memory"},
	{" still", regexp.MustCompile(`(?i)\bstands? still\b`), "pause, stall"},
	{"ime-out", regexp.MustCompile(`(?i)\btime-outs?\b`), "timeout"},
	{"y and by", regexp.MustCompile(`(?i)\bby and by\b`), "gradually"},
	{"o wire took", regexp.MustCompile(`(?i)\bno wire took\b`), "unmatched"},
	{" no ", regexp.MustCompile(`\b(is|are) no (JSON|text|name|number|value|schema|event)\b`),
		"is not valid JSON, is not a name"},
}

// verbs are those that a doc comment does not begin with: a function returns, or reports whether.
var verbs = []string{"gives", "tells", "says"}

// later finds the same further on in a comment.
var later = regexp.MustCompile(`\. It (gives|tells|says)\b|\band (gives|tells) (how|what|it|them)\b`)

func TestTheLanguageOfTheProject(t *testing.T) {
	files := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := d.Name(); d.IsDir() && (strings.HasPrefix(name, ".") && name != ".." && name != "." ||
			name == "node_modules") {
			return fs.SkipDir
		}
		if d.IsDir() || !slices.Contains([]string{".go", ".md", ".yaml", ".json", ".txt"}, filepath.Ext(path)) ||
			strings.HasSuffix(path, "english_test.go") {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		goFile := filepath.Ext(path) == ".go"
		for i, line := range strings.Split(string(text), "\n") {
			for _, s := range struckOut {
				if !strings.Contains(line, s.hint) {
					continue
				}
				if found := s.phrase.FindString(line); found != "" {
					t.Errorf("%s:%d: %q; better: %s", path, i+1, found, s.better)
				}
			}
			wide := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			if goFile && wide > 120 {
				t.Errorf("%s:%d: %d columns, the limit is 120", path, i+1, wide)
			}
		}
		if goFile {
			docs(t, path, text)
		}
		return nil
	})
	if err != nil || files < 200 {
		t.Fatalf("%d files, %v", files, err)
	}
}

// docs checks the doc comments of a file's functions.
func docs(t *testing.T, path string, text []byte) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, text, parser.ParseComments|parser.SkipObjectResolution)
	if err != nil {
		t.Error(err)
		return
	}
	for _, decl := range file.Decls {
		f, ok := decl.(*ast.FuncDecl)
		if !ok || f.Doc == nil || strings.HasSuffix(path, "_test.go") {
			continue
		}
		words := strings.Fields(f.Doc.Text())
		if len(words) < 2 {
			continue
		}
		at := set.Position(f.Pos())
		if f.Name.IsExported() && words[0] != f.Name.Name && words[0] != "Deprecated:" {
			t.Errorf("%s: the doc comment of %s begins with %q", at, f.Name.Name, words[0])
		}
		if later.MatchString(strings.Join(words, " ")) {
			t.Errorf("%s: %s: %q; a function returns", at, f.Name.Name, later.FindString(strings.Join(words, " ")))
		}
		if words[0] == f.Name.Name && slices.Contains(verbs, words[1]) {
			t.Errorf("%s: %s %s; a function returns, or reports whether", at, words[0], words[1])
		}
		if r := f.Type.Results; r != nil && len(r.List) == 1 && words[0] == f.Name.Name {
			if id, ok := r.List[0].Type.(*ast.Ident); ok && id.Name == "bool" && len(r.List[0].Names) == 0 &&
				strings.Contains(strings.Join(words, " "), " whether ") &&
				!strings.Contains(strings.Join(words, " "), "reports whether") {
				t.Errorf("%s: %s reports whether", at, words[0])
			}
		}
	}
}
