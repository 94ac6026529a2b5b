package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A walk visits what can be seen and is a file, tells what it cannot read, and ends when it is told.
func TestVisible(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b/c.txt", "a.txt", ".git/x", "b/.hidden", ".env"} {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, nil, 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("a.txt", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	var seen []string
	err := Visible(dir, func(path, key string, info fs.FileInfo, err error) error {
		if err != nil || info.Name() != filepath.Base(path) {
			t.Errorf("%s: %v", path, err)
		}
		seen = append(seen, key)
		return nil
	})
	if got := strings.Join(seen, " "); err != nil || got != "a.txt b/c.txt" {
		t.Errorf("%v: %q", err, got)
	}
	missing := filepath.Join(dir, "none")
	if err := Visible(missing, func(_, _ string, _ fs.FileInfo, err error) error { return err }); !errors.Is(err,
		fs.ErrNotExist) {
		t.Errorf("a folder that is not there: %v", err)
	}
	n := 0
	if err := Visible(dir, func(string, string, fs.FileInfo, error) error { n++; return fs.SkipAll }); err != nil ||
		n != 1 {
		t.Errorf("ended: %v after %d", err, n)
	}
}
