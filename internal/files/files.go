// Package files walks folders, and knows where the program keeps its own.
package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Visible visits the files below a folder in the order of their names, each with its key: its path
// from the folder on, with slashes. Hidden ones and links, which may lead anywhere, are left out.
// What cannot be read is visited with its error. An error of visit ends the walk and is returned,
// but for fs.SkipAll, which only ends it.
func Visible(folder string, visit func(path, key string, info fs.FileInfo, err error) error) error {
	return filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err == nil && path != folder && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if err == nil && !d.Type().IsRegular() {
			return nil
		}
		key, e := filepath.Rel(folder, path)
		if e != nil {
			return e
		}
		if err != nil {
			return visit(path, filepath.ToSlash(key), nil, err)
		}
		info, err := d.Info()
		return visit(path, filepath.ToSlash(key), info, err)
	})
}

// State returns the folder in which the program keeps what is about its user and no project
// (XDG Base Directory Specification).
func State() string {
	state := os.Getenv("XDG_STATE_HOME")
	if !filepath.IsAbs(state) { // the specification ignores relative ones
		home, err := os.UserHomeDir()
		if err != nil {
			home = os.TempDir()
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "nightdrill")
}
