package fireview

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"os"
	"os/exec"
	"runtime"
	"strings"

	"nightdrill.dev/internal/session"
)

// editorCommand returns the user's editor on a file: $VISUAL, $EDITOR, or one that
// most systems have.
func editorCommand(path string) (*exec.Cmd, error) {
	for _, variable := range []string{"VISUAL", "EDITOR"} {
		if words := strings.Fields(os.Getenv(variable)); len(words) > 0 {
			if _, err := exec.LookPath(words[0]); err != nil {
				return nil, fmt.Errorf("$%s is set to %s, which is not on the PATH", variable, words[0])
			}
			return exec.Command(words[0], append(words[1:], path)...), nil
		}
	}
	for _, name := range []string{"editor", "nano", "vim", "vi"} {
		if _, err := exec.LookPath(name); err == nil {
			return exec.Command(name, path), nil
		}
	}
	return nil, errors.New("no editor found; set $EDITOR to one")
}

// editing is an editor that has the terminal.
type editing struct{ *exec.Cmd }

func (e editing) SetStdin(r io.Reader)  { e.Stdin = r }
func (e editing) SetStdout(w io.Writer) { e.Stdout = w }
func (e editing) SetStderr(w io.Writer) { e.Stderr = w }

// Run runs the editor to its end.
func (e editing) Run() error {
	if err := session.Beside(e.Start); err != nil {
		return err
	}
	return e.Wait()
}

// openFile opens a file with the system's program for it.
func openFile(path string) error {
	name := "xdg-open"
	if runtime.GOOS == "darwin" {
		name = "open"
	}
	if _, err := exec.LookPath(name); err != nil {
		return fmt.Errorf("program %s not found", name)
	}
	c := exec.Command(name, path)
	if err := session.Beside(c.Start); err != nil {
		return err
	}
	go func() { _ = c.Wait() }() // how it ends is its own matter
	return nil
}

// suffixOf returns a file name's ending for a media type.
func suffixOf(mediaType string) string {
	base, _, _ := mime.ParseMediaType(mediaType)
	switch {
	case base == "application/json" || strings.HasSuffix(base, "+json"):
		return ".json"
	case base == "text/plain" || base == "":
		return ".txt"
	}
	if all, err := mime.ExtensionsByType(base); err == nil && len(all) > 0 {
		return all[0]
	}
	return ".bin"
}
