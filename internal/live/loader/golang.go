package loader

import (
	"context"
	"crypto/sha256"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/suggest"
)

//go:embed golang
var golang embed.FS

// packageOf is what the go command says of a handler's package.
type packageOf struct {
	ImportPath, Dir, Name string
	GoFiles, CgoFiles     []string
}

// BuildGo builds a handler in Go, with its loader, to an executable file. What is generated is laid over the
// user's module (go build -overlay), and nothing is written there: a package with the loader below the
// handler's, and a main that hands the handler over. A main of the user's is renamed.
func BuildGo(ctx context.Context, file, name, takes, out string, said io.Writer) error {
	dir := filepath.Dir(file)
	var p packageOf
	list := exec.CommandContext(ctx, "go", "list", "-json=ImportPath,Dir,Name,GoFiles,CgoFiles", ".")
	list.Dir = dir
	text, err := list.Output()
	if err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			why := strings.TrimSpace(string(exit.Stderr))
			if strings.Contains(why, "go.mod") {
				why += "\na handler in Go is built within its module; go mod init NAME makes one"
			}
			return errors.New(why)
		}
		return fmt.Errorf("%w; a handler in Go is built by the go command", err)
	}
	if err := json.Unmarshal(text, &p); err != nil {
		return fmt.Errorf("go list: %w", err)
	}
	work, err := os.MkdirTemp("", "nightdrill-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work) //nolint:errcheck // a folder of ours in the system's place for them
	takes, traced := strings.CutSuffix(takes, plan.TakesTraced)
	over := map[string]string{}
	lay := func(path string, text []byte) error {
		at := filepath.Join(work, fmt.Sprintf("%d.go", len(over)))
		over[path] = at
		return os.WriteFile(at, text, 0o600)
	}
	if err := checkName(&p, file, name, lay); err != nil {
		return err
	}
	const below = "nightdrillloader"
	for _, part := range loaderFiles {
		if part == "requests.go" && takes != plan.TakesRequest.String() || part == "trace.go" && !traced {
			continue // it need not link an HTTP server, or a client
		}
		text, err := golang.ReadFile("golang/" + part + ".txt")
		if err == nil {
			err = lay(filepath.Join(p.Dir, below, part), text)
		}
		if err != nil {
			return err
		}
	}
	loader, target := p.ImportPath+"/"+below, "."
	if p.Name == "main" { // which cannot be imported: its own main is ours
		err = lay(filepath.Join(p.Dir, "nightdrill_main.go"), fmt.Appendf(nil,
			"package main\n\nimport %q\n\nfunc main() { %s.Serve(%s) }\n", loader, below, name))
	} else {
		target = "./" + below + "/main"
		err = lay(filepath.Join(p.Dir, "nightdrill_handler.go"), fmt.Appendf(nil,
			"package %s\n\nvar NightdrillHandler interface{} = %s\n", p.Name, name))
		if err == nil {
			err = lay(filepath.Join(p.Dir, below, "main", "main.go"), fmt.Appendf(nil,
				"package main\n\nimport (\n\thandler %q\n\t%q\n)\n\n"+
					"func main() { %s.Serve(handler.NightdrillHandler) }\n", p.ImportPath, loader, below))
		}
	}
	if err != nil {
		return err
	}
	overlay, err := json.Marshal(map[string]any{"Replace": over})
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(work, "overlay.json"), overlay, 0o600); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
		return err
	}
	build := exec.CommandContext(ctx, "go", "build", "-overlay", filepath.Join(work, "overlay.json"), "-o", out, target)
	build.Dir = p.Dir
	output, err := build.CombinedOutput()
	for line := range strings.Lines(string(output)) {
		if rest, ok := strings.CutPrefix(line, "./"); ok { // from where one is, not from the package
			line = shown(filepath.Join(p.Dir, rest))
		}
		_, _ = io.WriteString(said, line) // there is no one else to tell
	}
	if err != nil {
		return fmt.Errorf("go build: %w", err)
	}
	return nil
}

// shown returns a path as seen from the folder that one is in, where it is below.
func shown(path string) string {
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, path); err == nil && filepath.IsLocal(rel) {
			return rel
		}
	}
	return path
}

// OfGo identifies the loader that BuildGo builds in.
func OfGo() string {
	sum := sha256.New()
	for _, part := range loaderFiles {
		text, _ := golang.ReadFile("golang/" + part + ".txt") // it is embedded
		sum.Write(text)
	}
	return fmt.Sprintf("%x", sum.Sum(nil))
}

var loaderFiles = []string{"loader.go", "requests.go", "trace.go"}

// checkName looks for the handler among the package's own names, and lays its files with a main over with that
// one renamed, everything else in its place.
func checkName(p *packageOf, file, name string, lay func(path string, text []byte) error) error {
	var names []string
	found := false
	for _, base := range append(p.GoFiles, p.CgoFiles...) {
		path := filepath.Join(p.Dir, base)
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, shown(path), text, parser.SkipObjectResolution)
		if err != nil {
			return err // with file and line
		}
		for _, d := range tree.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Recv != nil {
					continue
				}
				names, found = append(names, d.Name.Name), found || d.Name.Name == name
				if p.Name == "main" && d.Name.Name == "main" {
					at := set.Position(d.Name.Pos()).Offset
					if err := lay(path, append(append(append([]byte{}, text[:at]...), "_   "...),
						text[at+4:]...)); err != nil {
						return err
					}
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					if v, ok := s.(*ast.ValueSpec); ok {
						for _, n := range v.Names {
							names, found = append(names, n.Name), found || n.Name == name
						}
					}
				}
			}
		}
	}
	if found && name != "main" && name != "init" {
		return nil
	}
	hint := ""
	if near := suggest.Word(name, names); near != "" {
		hint = "; did you mean " + near + "?"
	}
	return fmt.Errorf("%s:1: package %s has no function %s to be a handler%s", shown(file), p.Name, name, hint)
}
