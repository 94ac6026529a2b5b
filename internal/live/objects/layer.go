package objects

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"strings"
)

// over is what a bucket has that lies over another: the other's objects are seen in it,
// and not changed by what is put and removed in it.
type over struct {
	base *bucket
	gone map[string]bool // objects of the base that were removed here
	// borrowed is set where another program has the base, so that what it holds is read anew
	// each time
	borrowed bool
}

// Layer returns a store that has the objects of this one, and in which objects can be put
// and removed without changing them. What is its own is kept in a folder that goes when it
// is closed. It listens nowhere yet, and tells no one.
func (s *Store) Layer(dir string) *Store {
	n := &Store{dir: dir, buckets: map[string]*bucket{}, life: make(chan struct{}), allowed: s.allowed, passing: true}
	for _, name := range s.names {
		n.add(Bucket{Name: name}).over = &over{base: s.buckets[name], gone: map[string]bool{}}
	}
	return n
}

// Borrow opens the store of a project that another program has open: the objects of that
// one's buckets are seen as they are, and what is put and removed is kept apart, in a folder
// of its own. Buckets that are folders of the user's are the same in both.
func Borrow(dir, apart string, buckets []Bucket) (*Store, error) {
	s, err := Open(apart, buckets)
	if err != nil {
		return nil, err
	}
	s.borrowed = dir
	base := &Store{dir: dir, buckets: map[string]*bucket{}}
	for name, b := range s.buckets {
		if b.Folder == "" {
			b.over = &over{base: base.add(Bucket{Name: name}), gone: map[string]bool{}, borrowed: true}
		}
	}
	return s, nil
}

// again opens the store once more, for other buckets.
func (s *Store) again(buckets []Bucket) (*Store, error) {
	if s.borrowed != "" {
		return Borrow(s.borrowed, s.dir, buckets)
	}
	return Open(s.dir, buckets)
}

// ofFiles reports whether the objects are files of a folder of the user's, here or below.
func (b *bucket) ofFiles() bool {
	for b.over != nil {
		b = b.over.base
	}
	return b.Folder != ""
}

// at returns an object, its own or one that it lies over; nil for none. The store's lock is
// held.
func (b *bucket) at(key string) *Object {
	switch o := b.objects[key]; {
	case o != nil || b.over == nil || b.over.gone[key]:
		return o
	case b.over.borrowed:
		return b.over.base.read(card(key))
	}
	return b.over.base.in.find(b.over.base, key)
}

// all returns the objects that are seen in a bucket by their keys. The store's lock is held.
func (b *bucket) all() map[string]*Object {
	if b.over == nil {
		return b.objects
	}
	var out map[string]*Object
	base := b.over.base
	if b.over.borrowed {
		out = base.readAll()
	} else {
		base.in.mu.Lock()
		out = maps.Clone(base.all())
		base.in.mu.Unlock()
	}
	maps.DeleteFunc(out, func(key string, _ *Object) bool { return b.over.gone[key] })
	maps.Copy(out, b.objects)
	return out
}

// holder returns the bucket that has the bytes of an object: the bucket itself, or one that
// it lies over.
func (b *bucket) holder(o *Object) *bucket {
	for b.over != nil {
		b.in.mu.Lock()
		own := b.objects[o.Key] == o
		b.in.mu.Unlock()
		if own {
			break
		}
		b = b.over.base
	}
	return b
}

// read reads what a file says of an object; nil where it says nothing.
func (b *bucket) read(card string) *Object {
	text, err := os.ReadFile(filepath.Join(b.in.folder(b.Name), card))
	o := &Object{}
	if err != nil || json.Unmarshal(text, o) != nil || o.Key == "" || !filepath.IsLocal(o.Data) {
		return nil
	}
	return o
}

// readAll reads what is known of all objects of a bucket.
func (b *bucket) readAll() map[string]*Object {
	out := map[string]*Object{}
	entries, err := os.ReadDir(b.in.folder(b.Name))
	if err != nil {
		return out // there is none yet
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".json") {
			continue
		}
		if o := b.read(e.Name()); o != nil {
			out[o.Key] = o
		}
	}
	return out
}
