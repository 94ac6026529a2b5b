package project

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// goodName is a name that a payload set can be given by a command.
var goodName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$`)

// SetName returns an error that names what is wrong with the name of a new payload set.
func SetName(name string) error {
	if !goodName.MatchString(name) {
		return fmt.Errorf("%q is not a name for a payload set; use letters, digits and . _ -", name)
	}
	return nil
}

// AddSet adds a payload set to a project's file, with its settings as YAML in one
// line such as {recording: payloads/x.har}. Everything else in the file stays as
// it is. It returns false where the file has a set of that name already.
func AddSet(dir, name, settings string) (added bool, err error) {
	path := filepath.Join(dir, File)
	text, err := ReadFile(path, mostProject)
	if err != nil {
		return false, err
	}
	file, err := parser.ParseBytes(text, parser.ParseComments)
	if err != nil || len(file.Docs) == 0 {
		return false, fmt.Errorf("%s is not valid YAML; add this under payloads: yourself: %s: %s", path, name,
			settings)
	}
	line := name + ": " + settings
	lines := strings.SplitAfter(string(text), "\n")
	at, indent := -1, "  "
	for _, v := range mapping(file.Docs[0].Body) {
		if v.Key.GetToken().Value != "payloads" {
			continue
		}
		sets := mapping(v.Value)
		if m, flow := v.Value.(*ast.MappingNode); sets == nil || flow && m.IsFlowStyle {
			return false, fmt.Errorf("payloads in %s is not a block list of sets; add this to it yourself: %s", path,
				line)
		}
		for _, s := range sets {
			if s.Key.GetToken().Value == name {
				return false, nil
			}
		}
		at = v.Key.GetToken().Position.Line
		indent = strings.Repeat(" ", sets[0].Key.GetToken().Position.Column-1)
	}
	if at >= 0 {
		lines = slices.Insert(lines, at, indent+line+"\n")
	} else {
		if n := len(lines); n > 0 && lines[n-1] != "" {
			lines[n-1] = strings.TrimRight(lines[n-1], "\n") + "\n"
		}
		lines = append(lines, "\npayloads:\n"+indent+line+"\n")
	}
	changed := strings.Join(lines, "")
	if _, err := parser.ParseBytes([]byte(changed), 0); err != nil {
		return false, fmt.Errorf("%s could not be changed; add this under payloads: yourself: %s", path, line)
	}
	return true, WriteWhole(path, []byte(changed))
}

// Expectation returns what a project's file expects of the reply to payload n of a set, from
// 1, as YAML in one line; "" where it expects nothing.
func Expectation(dir, set string, n int) (string, error) {
	text, err := ReadFile(filepath.Join(dir, File), mostProject)
	if err != nil {
		return "", err
	}
	var file struct {
		Payloads map[string]struct {
			Expect any            `yaml:"expect"`
			Each   map[string]any `yaml:"expect_each"`
		} `yaml:"payloads"`
	}
	if err := yaml.Unmarshal(text, &file); err != nil {
		return "", fmt.Errorf("%s is not valid YAML", File)
	}
	expect := file.Payloads[set].Expect
	if own, ok := file.Payloads[set].Each[strconv.Itoa(n)]; ok {
		expect = own
	}
	if expect == nil {
		return "", nil
	}
	line, err := json.Marshal(expect) // which is YAML, too
	return string(line), err
}

// AddRecording is AddSet for a recording in a file below the project's folder.
func AddRecording(dir, name, file string) (added bool, err error) {
	return AddSet(dir, name, "{recording: "+file+"}")
}

// WriteWhole writes a file so that it is there whole or not at all.
func WriteWhole(path string, text []byte) error {
	return WriteWith(path, func(w *bufio.Writer) error {
		_, err := w.Write(text)
		return err
	})
}

// WriteWith is WriteWhole for what is written bit by bit.
func WriteWith(path string, write func(*bufio.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".nightdrill-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // gone already when all went well
	w := bufio.NewWriter(f)
	if err = write(w); err == nil {
		err = w.Flush()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), mode)
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}
