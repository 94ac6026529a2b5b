// Package files walks folders.
package files

import (
	"io/fs"
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
