package objects

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/files"
)

const (
	// still is how long a file must not have changed before it counts as written.
	still = 120 * time.Millisecond
	// mostFiles bounds what is looked at in one folder.
	mostFiles = 100_000
)

// scan returns the files below a folder as objects. What is known of those that
// did not change since is taken over.
func scan(folder string, known map[string]*Object) map[string]*Object {
	found := map[string]*Object{}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return found // there is nothing yet
	}
	defer root.Close()
	_ = files.Visible(folder, func(_, key string, info fs.FileInfo, err error) error {
		if err != nil || len(found) >= mostFiles {
			return nil // gone, or not ours to read
		}
		o := &Object{Key: key, Size: info.Size(), Kind: kindOf(key), Modified: info.ModTime()}
		if k := known[key]; k != nil && k.Size == o.Size && k.Modified.Equal(o.Modified) {
			o = k
		}
		found[key] = o
		return nil
	})
	for _, o := range found {
		if o.ETag == "" {
			o.ETag = tagOf(root, o)
		}
	}
	return found
}

// largeFile is from where on a file's tag is made of its size and time.
const largeFile = 64 << 20

// tagOf returns the entity tag of a file: of its bytes, or of its size and time
// where it is large.
func tagOf(root *os.Root, o *Object) string {
	if f, err := root.Open(filepath.FromSlash(o.Key)); err == nil && o.Size <= largeFile {
		defer f.Close()
		sum := sha256.New()
		if _, err := io.Copy(sum, f); err == nil {
			return `"` + hex.EncodeToString(sum.Sum(nil)[:16]) + `"`
		}
	}
	return fmt.Sprintf(`"%x-%x"`, o.Size, o.Modified.UnixNano())
}

// Watch watches the folders of the buckets that have one, and emits an event for each file that
// comes, changes or goes. Those that are there already emit none. The error names the folder that
// cannot be watched.
func (s *Store) Watch() error {
	for _, name := range s.names {
		b := s.buckets[name]
		if b.Folder == "" {
			continue
		}
		if err := os.MkdirAll(b.Folder, 0o755); err != nil {
			return fmt.Errorf("cannot create the folder of bucket %s: %w", name, err)
		}
		w, err := fsnotify.NewWatcher()
		if err != nil {
			return fmt.Errorf("cannot watch the folder of bucket %s: %w", name, err)
		}
		addAll(w, b.Folder)
		s.watches.Go(func() {
			defer w.Close()
			s.follow(w, b)
		})
	}
	return nil
}

func addAll(w *fsnotify.Watcher, path string) {
	_ = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = w.Add(p) // what cannot be looked at is found by the next scan
		}
		return nil
	})
}

// follow scans the folder again when something has changed and nothing has for a
// moment: a file that is still being written has not come yet.
func (s *Store) follow(w *fsnotify.Watcher, b *bucket) {
	timer := time.NewTimer(still) // files may have come before anybody watched
	defer timer.Stop()
	var last map[string]*Object
	for {
		select {
		case <-s.life:
			return
		case e, ok := <-w.Events:
			if !ok {
				return
			}
			if e.Has(fsnotify.Create) {
				addAll(w, e.Name)
			}
			timer.Reset(still)
		case _, ok := <-w.Errors:
			if !ok {
				return
			}
			addAll(w, b.Folder)
			timer.Reset(still)
		case <-timer.C:
			s.mu.Lock()
			known := b.objects
			s.mu.Unlock()
			if last != nil {
				known = last
			}
			now := scan(b.Folder, known)
			if last == nil || !same(last, now) { // once more, until two looks see the same
				last = now
				timer.Reset(still)
				continue
			}
			last = nil
			s.see(b, now)
		}
	}
}

func same(a, b map[string]*Object) bool {
	if len(a) != len(b) {
		return false
	}
	for key, x := range a {
		if y := b[key]; y == nil || x.Size != y.Size || !x.Modified.Equal(y.Modified) {
			return false
		}
	}
	return true
}

// see takes up what a folder holds now, and reports what is new.
func (s *Store) see(b *bucket, now map[string]*Object) {
	s.mu.Lock()
	var told []event.Object
	for key, o := range now {
		switch was := b.objects[key]; {
		case was == nil:
			told = append(told, s.told(b, o, event.Created))
		case was.Size != o.Size || !was.Modified.Equal(o.Modified):
			told = append(told, s.told(b, o, event.Overwritten))
		}
	}
	for key, o := range b.objects {
		if now[key] == nil {
			told = append(told, s.told(b, o, event.Removed))
		}
	}
	b.objects = now
	s.mu.Unlock()
	slices.SortFunc(told, func(x, y event.Object) int { return strings.Compare(x.Key, y.Key) })
	for _, o := range told {
		select {
		case <-s.life:
			return // no one hears of the rest
		default:
		}
		if s.tell != nil {
			s.tell(o, time.Now())
		}
	}
}
