// Package loader has the programs that run plain handlers: one for each language, which loads the user's
// callable and answers what comes over a Unix socket. Path writes one to the user's state folder, from where
// an interpreter runs it; package transport speaks to it.
package loader

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/files"
)

var (
	//go:embed nightdrill_loader.py
	python []byte
	//go:embed nightdrill_loader.mjs
	node []byte
	//go:embed nightdrill_loader.jar
	java []byte
)

var programs = map[plan.Language]struct {
	name string
	text []byte
}{plan.Python: {"nightdrill_loader.py", python}, plan.Node: {"nightdrill_loader.mjs", node},
	plan.Java: {"nightdrill_loader.jar", java}}

var mu sync.Mutex

// Path returns the file of a language's loader, and writes it where it is not there yet; "" for Go, whose
// loader is built into the executable, and where the user has one. Each version has a folder of its own, so that
// several programs do not disturb each other.
func Path(of plan.Language) (string, error) {
	if of == plan.Go || of == plan.OtherLanguage {
		return "", nil
	}
	p, ok := programs[of]
	if !ok {
		return "", fmt.Errorf("there is no loader for %s", of)
	}
	mu.Lock()
	defer mu.Unlock()
	dir := filepath.Join(files.State(), "loaders", fmt.Sprintf("%x", sha256.Sum256(p.text))[:16])
	path := filepath.Join(dir, p.name)
	if there, err := os.ReadFile(path); err == nil && bytes.Equal(there, p.text) {
		return path, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", fmt.Errorf("cannot write the loader for handlers: %w (set XDG_STATE_HOME to a writable folder)", err)
	}
	// another program may write the same at this moment
	temporary, err := os.CreateTemp(dir, "new-*")
	if err == nil {
		if _, err = temporary.Write(p.text); err == nil {
			err = temporary.Close()
		}
		if err == nil {
			err = os.Rename(temporary.Name(), path)
		}
		_ = os.Remove(temporary.Name()) // where it could not be renamed
	}
	if err != nil {
		return "", fmt.Errorf("cannot write the loader for handlers: %w", err)
	}
	return path, nil
}
