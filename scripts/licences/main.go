// Licences prints the licences of the modules that the program is made of, as a page of the docs or, with -texts,
// whole.
// It fails where one is unknown, or is not among those that go with the program's own.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/licensecheck"
)

// allowed are the licences that go with the program's, as SPDX names them.
var allowed = []string{"MIT", "BSD-2-Clause", "BSD-3-Clause", "Apache-2.0", "ISC", "MPL-2.0", "EPL-2.0", "BSD-0-Clause",
	"OFL-1.1", "Unlicense", "CC0-1.0", "CC-BY-4.0", "GPL-2.0-with-font-exception"}

// module is a module of the program, with its licences.
type module struct {
	Path, Version, Dir string
	names              []string
	texts              [][]byte
}

func main() {
	texts := flag.Bool("texts", false, "print the texts of the licences")
	flag.Parse()
	if err := run(os.Stdout, *texts); err != nil {
		fmt.Fprintln(os.Stderr, "licences:", err)
		os.Exit(1)
	}
}

func run(out io.Writer, texts bool) error {
	all, err := modules()
	if err != nil {
		return err
	}
	var wrong []error
	for i := range all {
		wrong = append(wrong, all[i].read())
	}
	if err := errors.Join(wrong...); err != nil {
		return err
	}
	if texts {
		for _, m := range all {
			fmt.Fprintf(out, "%s\n%s %s\n%s\n\n", strings.Repeat("=", 100), m.Path, m.Version, strings.Join(m.names,
				", "))
			for _, text := range m.texts {
				fmt.Fprintf(out, "%s\n\n", bytes.TrimSpace(text))
			}
		}
		return nil
	}
	fmt.Fprint(out, "# Licences of dependencies\n\nWhat the program is made of, on all systems that it is built for. "+
		"`make licences` writes this page,\nand `make lint` fails where it is out of date or a licence is not "+
		"known. The "+
		"colours of texts use definitions\nfrom chroma (MIT), in `internal/tui/canvas/lexers`.\n\n"+
		"| module | version | licence |\n| --- | --- | --- |\n")
	for _, m := range all {
		fmt.Fprintf(out, "| %s | %s | %s |\n", m.Path, m.Version, strings.Join(m.names, ", "))
	}
	return nil
}

// modules lists the modules of the packages that the program is built from, on any of its systems.
func modules() ([]module, error) {
	known := map[string]module{}
	for _, system := range []string{"linux", "darwin"} {
		c := exec.Command("go", "list", "-deps", "-json=Module", "./cmd/nightdrill")
		c.Env, c.Stderr = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0"), os.Stderr
		content, err := c.Output()
		if err != nil {
			return nil, fmt.Errorf("go list: %w", err)
		}
		for d := json.NewDecoder(bytes.NewReader(content)); ; {
			var p struct {
				Module *struct {
					Path, Version, Dir string
					Main               bool
				}
			}
			if err := d.Decode(&p); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return nil, err
			}
			if p.Module != nil && !p.Module.Main {
				known[p.Module.Path] = module{Path: p.Module.Path, Version: p.Module.Version, Dir: p.Module.Dir}
			}
		}
	}
	var out []module
	for _, m := range known {
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b module) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// read reads the licences in a module's folder.
func (m *module) read() error {
	files, err := os.ReadDir(m.Dir)
	if err != nil {
		return fmt.Errorf("%s: %w", m.Path, err)
	}
	for _, f := range files {
		name := strings.ToUpper(f.Name())
		if f.IsDir() || !strings.HasPrefix(name, "LICEN") && !strings.HasPrefix(name, "COPYING") &&
			!strings.HasPrefix(name, "NOTICE") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(m.Dir, f.Name()))
		if err != nil {
			return fmt.Errorf("%s: %w", m.Path, err)
		}
		m.texts = append(m.texts, text)
		for _, match := range licensecheck.Scan(text).Match {
			if !match.IsURL && !slices.Contains(m.names, match.ID) {
				m.names = append(m.names, match.ID)
			}
		}
	}
	if len(m.names) == 0 {
		return fmt.Errorf("%s %s: no licence found in %s", m.Path, m.Version, m.Dir)
	}
	for _, name := range m.names {
		if !slices.Contains(allowed, name) {
			return fmt.Errorf("%s %s: the licence %s is not among those that are allowed", m.Path, m.Version, name)
		}
	}
	slices.Sort(m.names)
	return nil
}
