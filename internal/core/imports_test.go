package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// What the core may import beside itself: no I/O, no clock, no interface.
var allowed = []string{
	"bufio", "bytes", "cmp", "crypto/hmac", "crypto/sha256", "encoding/hex", "hash/fnv", "container/heap", "io", "maps",
	"reflect", "sort", "encoding/base64", "encoding/csv", "encoding/json", "errors", "fmt", "math", "math/big",
	"math/bits", "regexp", "regexp/syntax", "sync", "sync/atomic", "math/rand/v2", "mime",
	"embed", "net/url", "slices", "strconv", "strings", "time", "unicode", "unicode/utf16", "unicode/utf8",
	"text/template", "text/template/parse",
	"github.com/aymanbagabas/go-udiff", "github.com/bmatcuk/doublestar/v4", "github.com/HdrHistogram/hdrhistogram-go",
	"github.com/dlclark/regexp2/v2",
	"github.com/santhosh-tekuri/jsonschema/v6",
}

// What the clock of the machine is read by, and what waits on it.
var clocks = []string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker"}

// Layers, from the outside in: each may import those below it.
var layers = [][]string{
	{"cli"}, {"tui"}, {"session"}, {"demo", "live", "store", "export", "project", "programs", "files"}, {"core"},
}

func layerOf(path string) int {
	rest, ours := strings.CutPrefix(path, "nightdrill.dev/internal/")
	if !ours {
		return -1
	}
	top, _, _ := strings.Cut(rest, "/")
	return slices.IndexFunc(layers, func(l []string) bool { return slices.Contains(l, top) })
}

// under reports whether a file or a package belongs to a part of the program.
func under(path, part string) bool {
	return strings.HasPrefix(path, "nightdrill.dev/internal/"+part+"/")
}

// shared reports whether a package is for all views: views do not import each other.
func shared(name string) bool {
	return slices.Contains([]string{"canvas", "input", "msg", "pane", "scroll"},
		strings.TrimPrefix(name, "nightdrill.dev/internal/tui/"))
}

func TestImportsPointInward(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		own := "nightdrill.dev/internal/" + filepath.ToSlash(strings.TrimPrefix(path, "../"))
		for _, i := range file.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			if from, to := layerOf(own), layerOf(name); to >= 0 && to < from {
				t.Errorf("%s imports %s, which is further out", own, name)
			} else if from < 0 {
				t.Errorf("%s is in no layer", own)
			}
			view := under(own, "tui") && strings.Count(own, "/") > 3
			if (under(own, "project") || under(own, "tui")) && under(name, "live") ||
				view && under(name, "tui") && !shared(name) {
				t.Errorf("%s may not import %s", own, name)
			}
			if layerOf(own) == len(layers)-1 && layerOf(name) != len(layers)-1 && !slices.Contains(allowed, name) {
				t.Errorf("%s: the core may not import %s", own, name)
			}
		}
		if layerOf(own) == len(layers)-1 {
			pure(t, set, file)
		}
		return nil
	})
	if err != nil || files < 20 {
		t.Fatalf("%d files, %v", files, err)
	}
}

// pure finds goroutines and clocks.
func pure(t *testing.T, set *token.FileSet, file *ast.File) {
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GoStmt:
			t.Errorf("%s: the core starts a goroutine", set.Position(n.Pos()))
		case *ast.SelectorExpr:
			if x, ok := n.X.(*ast.Ident); ok && x.Name == "time" && slices.Contains(clocks, n.Sel.Name) {
				t.Errorf("%s: the core uses time.%s", set.Position(n.Pos()), n.Sel.Name)
			}
		}
		return true
	})
}
