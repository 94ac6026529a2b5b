// Package demo is Brackwater Ferries: a project with everything that a drill
// needs, embedded in the program. Its functions are served by the program
// itself, started again under another command, so that the demo works on any
// machine with nothing else installed; one is a plain handler where Python or
// Node is there.
package demo

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	userfiles "nightdrill.dev/internal/files"
	"nightdrill.dev/internal/project"
)

//go:embed all:project
var files embed.FS

// Drill is the demo's drill.
const Drill = "friday-evening"

// itself is how the program serves the tides.
const itself = `start: ["{nightdrill}", demo-function, tides]`

// tidesHandler returns how the tides are served on this machine: by a handler in the first language that runs here,
// else by the program itself.
func tidesHandler() string {
	for _, x := range []struct{ interpreter, flag, file string }{{"python3", "-c", "functions/tides.py"},
		{"node", "-e", "functions/tides.mjs"}} {
		ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
		err := exec.CommandContext(ctx, x.interpreter, x.flag, "").Run() // a placeholder for one only fails
		end()
		if err == nil {
			return fmt.Sprintf("handler: %s:tides\n    takes: data", x.file)
		}
	}
	return itself
}

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
		if rel == project.File {
			text = bytes.Replace(text, []byte(itself), []byte(tidesHandler()), 1)
		}
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
