package project

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/plan"
)

// Schema compiles a JSON Schema from a file, with the files that it refers to,
// all of which are below dir.
func Schema(path, dir string) (*jsonschema.Schema, error) {
	s, err := generate.Compiler(&local{dir: dir}).Compile(path)
	if err != nil {
		return nil, errors.New(strings.Join(strings.Fields(err.Error()), " "))
	}
	return s, nil
}

// Generator reads a JSON Schema as Schema does, to make payloads of it. It also
// gives the files that were read. The error is generate.Refused where the schema
// is the reason. It makes no more once the context has ended.
func Generator(ctx context.Context, path, dir string) (g *generate.Generator, read []string, err error) {
	path, err = filepath.Abs(path)
	if err != nil {
		return nil, nil, err
	}
	text, err := ReadFile(path, mostSchema)
	if err != nil {
		return nil, []string{path}, err
	}
	l := &local{dir: dir}
	if g, err = generate.Open(text, fileURL(path), l.Load); err == nil {
		g.Until(ctx.Err)
	}
	if !slices.Contains(l.read, path) {
		l.read = append(l.read, path)
	}
	return g, l.read, err
}

func fileURL(path string) string {
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(path)}).String()
}

// local loads schemas from files of a folder alone: nothing is fetched. A URI of
// the network is looked for among the files beside those that were read, as the
// $id of one of them.
type local struct {
	dir  string
	read []string
}

func (l *local) Load(uri string) (any, error) {
	u, err := url.Parse(uri)
	if err != nil {
		return nil, err
	}
	if u.Scheme != "file" {
		if doc := l.byID(uri); doc != nil {
			return doc, nil
		}
		return nil, fmt.Errorf("%s is on the network; nothing is fetched; save it beside the schema, with that $id",
			uri)
	}
	path, err := l.inside(u.Path)
	if err != nil {
		return nil, err
	}
	doc, err := l.open(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, Cause(err))
	}
	return doc, nil
}

// inside returns the file at a path of a URI, which must be in the folder.
func (l *local) inside(path string) (string, error) {
	path = filepath.FromSlash(path)
	dir, err := filepath.Abs(l.dir)
	if err != nil {
		return "", err
	}
	if inside, err := filepath.Rel(dir, path); err != nil || !filepath.IsLocal(inside) {
		return "", fmt.Errorf("%s is outside the folder %s", path, dir)
	}
	return path, nil
}

func (l *local) open(path string) (any, error) {
	text, err := ReadFile(path, mostSchema)
	if err != nil {
		return nil, err
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err == nil && !slices.Contains(l.read, path) {
		l.read = append(l.read, path)
	}
	return doc, err
}

// mostBeside bounds the files that are looked into for an $id.
const mostBeside = 500

// byID finds a schema of the folder by its $id.
func (l *local) byID(uri string) (found any) {
	n := 0
	_ = filepath.WalkDir(l.dir, func(path string, d os.DirEntry, err error) error { // what cannot be read is not it
		if err != nil || found != nil || n > mostBeside {
			return filepath.SkipAll
		}
		if name := d.Name(); d.IsDir() && path != l.dir && (strings.HasPrefix(name, ".") || name == "node_modules") {
			return filepath.SkipDir
		}
		if d.IsDir() || filepath.Ext(path) != ".json" {
			return nil
		}
		n++
		text, err := ReadFile(path, mostSchema)
		if err != nil || !strings.Contains(string(text), uri) {
			return nil
		}
		if doc, err := l.open(path); err == nil {
			if m, ok := doc.(map[string]any); ok && (m["$id"] == uri || m["$id"] == uri+"#" || m["id"] == uri ||
				m["id"] == uri+"#") {
				found = doc
			}
		}
		return nil
	})
	return found
}

// Bytes reads a size such as 200kB or 1.5MiB; "" is 0.
func Bytes(text string) (int, error) {
	n, err := plan.ParseSize(text, mostBytes)
	return int(n), err
}

const mostBytes = 1 << 30
