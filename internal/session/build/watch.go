package build

import (
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"
)

// Watcher reports files that change: those that functions are made of, and those that the project
// is.
type Watcher struct {
	w    *fsnotify.Watcher
	dir  string
	deep []string // folders below which everything is looked at, relative to dir
}

// Watch watches the folders of patterns, with what comes below them later, and the folders of
// single files.
func Watch(dir string, patterns, files []string) (*Watcher, error) {
	n, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	w := &Watcher{w: n, dir: dir}
	for _, p := range patterns {
		base, rest := doublestar.SplitPattern(p)
		if strings.Contains(rest, "/") || strings.Contains(rest, "**") {
			w.deep = append(w.deep, base)
		}
		if err := w.add(filepath.Join(dir, base)); err != nil {
			n.Close()
			return nil, err
		}
	}
	for _, f := range append(files, filepath.Join(dir, "x")) {
		if err := n.Add(filepath.Dir(f)); err != nil {
			n.Close()
			return nil, err
		}
	}
	return w, nil
}

// add watches a folder, and all below it where that is wanted.
func (w *Watcher) add(path string) error {
	rel, err := filepath.Rel(w.dir, path)
	if err != nil {
		return err
	}
	if !w.isDeep(filepath.ToSlash(rel)) {
		_ = w.w.Add(path) // it may come later; then its parent tells
		return nil
	}
	return filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil // gone, or not ours to read
		case !d.IsDir():
			return nil
		case p != path && slices.Contains(unwatched, d.Name()):
			return filepath.SkipDir
		}
		return w.w.Add(p)
	})
}

func (w *Watcher) isDeep(rel string) bool {
	return slices.ContainsFunc(w.deep, func(base string) bool {
		return base == "." || rel == base || strings.HasPrefix(rel, base+"/")
	})
}

// quiet is how long nothing must have changed before it is told that something did.
const quiet = 40 * time.Millisecond

// Follow calls touched for every path that changes, at once, and changed when
// nothing has changed for a moment. It returns when the watcher is closed.
func (w *Watcher) Follow(touched func(path string), changed func()) {
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	defer timer.Stop()
	for {
		select {
		case e, ok := <-w.w.Events:
			if !ok {
				return
			}
			if e.Op == fsnotify.Chmod {
				continue
			}
			if rel, err := filepath.Rel(w.dir, e.Name); e.Has(fsnotify.Create) && err == nil &&
				w.isDeep(filepath.ToSlash(rel)) {
				_ = w.add(e.Name) // a file is not a folder, which is no error that matters
			}
			touched(e.Name)
			timer.Reset(quiet)
		case _, ok := <-w.w.Errors:
			if !ok {
				return
			}
			touched("") // events may be lost: everything may have changed
			timer.Reset(quiet)
		case <-timer.C:
			changed()
		}
	}
}

func (w *Watcher) Close() { _ = w.w.Close() }

// New reports whether a failure has not been shown yet.
func (c *Code) New(f *Failure) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.told == f {
		return false
	}
	c.told = f
	return true
}
