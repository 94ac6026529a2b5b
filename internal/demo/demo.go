// Package demo is Brackwater Ferries: a project with everything that a drill
// needs, embedded in the program. Its functions are served by the program
// itself, started again under another command, so that the demo works on any
// machine with nothing else installed.
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	userfiles "nightdrill/internal/files"
)

//go:embed all:project
var files embed.FS

// Drill is the demo's drill.
const Drill = "friday-evening"

// Lay writes the demo's project to the user's state folder, where its runs are
// kept too, and returns its path. Files that are there already and differ are
// written anew.
func Lay() (string, error) {
	dir := filepath.Join(userfiles.State(), "demo")
	err := fs.WalkDir(files, "project", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel("project", path)
		to := filepath.Join(dir, rel)
		if old, err := os.ReadFile(to); err == nil && bytes.Equal(old, text) {
			return nil
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		return os.WriteFile(to, text, 0o644)
	})
	if err != nil {
		return "", fmt.Errorf("cannot write the demo's files: %w (set XDG_STATE_HOME to a writable folder)", err)
	}
	return dir, nil
}
