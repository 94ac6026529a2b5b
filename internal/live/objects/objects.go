// Package objects is the object store: buckets of objects over HTTP on this
// machine, kept in files, so that what an event names can really be fetched.
//
// Open opens the store of a project, Listen its entrance. A bucket is the
// store's own, or a folder of the user's whose files are its objects; Watch looks
// at those. What changes is told to whoever was named with Tell; Keep puts an
// object without telling. Layer and Borrow make stores that see the objects of another
// and change none of them.
package objects

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/webdav"

	"nightdrill.dev/internal/core/event"
)

// KeyLimit is the longest key of an object, in bytes.
const KeyLimit = 1024

// Bucket is a bucket that the store has.
type Bucket struct {
	Name   string
	Folder string // absolute; "" for one that is the store's own
}

// Object is what the store knows of an object.
type Object struct {
	Key      string    `json:"key"`
	Size     int64     `json:"size"`
	Kind     string    `json:"content_type"`
	ETag     string    `json:"etag"` // with its quotes (RFC 9110 §8.8.3)
	Modified time.Time `json:"modified"`
	Data     string    `json:"data,omitempty"` // name of the file with its bytes
}

// Store is an open object store.
type Store struct {
	dir     string // of the store's own buckets
	address string // where it listens, or would
	server  closer
	tell    func(event.Object, time.Time)
	locks   webdav.LockSystem
	made    map[string]bool // empty folders, as bucket/key
	allowed []string        // names that requests may be addressed to, beside those of this machine

	mu      sync.Mutex
	buckets map[string]*bucket
	names   []string      // of buckets, sorted
	life    chan struct{} // until Close
	end     sync.Once
	watches sync.WaitGroup

	borrowed string // the folder of what it lies over, which another program has; "" otherwise
	passing  bool   // what is its own goes when it is closed
}

type closer interface{ Close() error }

type bucket struct {
	Bucket
	in      *Store
	objects map[string]*Object
	over    *over // nil of one that lies over no other
}

// Open opens the store of a project: dir is the folder in which it keeps what is
// its own.
func Open(dir string, buckets []Bucket) (*Store, error) {
	s := &Store{dir: dir, buckets: map[string]*bucket{}, life: make(chan struct{})}
	for _, b := range buckets {
		if s.buckets[b.Name] != nil {
			continue // two sources may report one bucket
		}
		x := s.add(b)
		if b.Folder != "" {
			x.objects = scan(b.Folder, nil)
			continue
		}
		if err := s.load(x); err != nil {
			return nil, fmt.Errorf("the bucket %s cannot be read: %w", b.Name, err)
		}
	}
	slices.Sort(s.names)
	return s, nil
}

// add adds a bucket.
func (s *Store) add(b Bucket) *bucket {
	x := &bucket{Bucket: b, in: s, objects: map[string]*Object{}}
	s.buckets[b.Name] = x
	s.names = append(s.names, b.Name)
	return x
}

// Reopen opens the store for other buckets, at the same address and with the same
// ear; the one before is closed.
func (s *Store) Reopen(buckets []Bucket) (*Store, error) {
	n, err := s.again(buckets)
	if err != nil {
		return nil, err
	}
	n.tell, n.allowed = s.tell, s.allowed
	address := s.Address()
	s.Close()
	for name, b := range n.buckets { // what has changed meanwhile is found at the first look
		switch was := s.buckets[name]; {
		case was == nil:
		case was.Folder != "" && was.Folder == b.Folder:
			b.objects = was.objects
		case was.over != nil && b.over != nil:
			b.objects, b.over.gone = was.objects, was.over.gone
		}
	}
	if address == "" || len(buckets) == 0 {
		return n, nil
	}
	if err := n.Listen(address); err != nil { // another program took it meanwhile
		_ = n.Listen("127.0.0.1:0") // requests then find no address
	}
	return n, nil
}

// Tell names who hears of changes, with the time at which they came. It is called
// before Listen and Watch.
func (s *Store) Tell(of func(event.Object, time.Time)) { s.tell = of }

// Allow names hosts that requests may be addressed to, beside those of this machine. It is
// called before Listen.
func (s *Store) Allow(names []string) { s.allowed = names }

// folder returns the folder in which a bucket of the store's own keeps its files.
func (s *Store) folder(bucket string) string { return filepath.Join(s.dir, bucket) }

// load reads what is known of a bucket's objects. Bytes that no object names are
// left from what was interrupted, and are removed.
func (s *Store) load(b *bucket) error {
	entries, err := os.ReadDir(s.folder(b.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	used := map[string]bool{}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".json") {
			continue
		}
		o := b.read(e.Name())
		if o == nil {
			continue
		}
		if info, err := os.Stat(filepath.Join(s.folder(b.Name), o.Data)); err != nil || info.Size() != o.Size {
			continue
		}
		b.objects[o.Key], used[o.Data] = o, true
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".data") && !used[e.Name()] {
			_ = os.Remove(filepath.Join(s.folder(b.Name), e.Name()))
		}
	}
	return nil
}

// Refusal is why something was not done, with the HTTP status that says so.
type Refusal struct {
	Status int
	Text   string
}

func (r *Refusal) Error() string { return r.Text }

func refuse(status int, format string, args ...any) error {
	return &Refusal{status, fmt.Sprintf(format, args...)}
}

// CheckKey returns an error that names what is wrong with a key.
func CheckKey(key string) error {
	switch {
	case key == "":
		return refuse(400, "an object needs a key, such as manifests/heron.csv")
	case len(key) > KeyLimit:
		return refuse(400, "the key has %d bytes; the limit is %d", len(key), KeyLimit)
	case !utf8.ValidString(key):
		return refuse(400, "the key is not UTF-8")
	case strings.ContainsFunc(key, unicode.IsControl):
		return refuse(400, "the key contains a control character")
	}
	for _, part := range strings.Split(key, "/") {
		if part == "." || part == ".." {
			return refuse(400, "the key contains a segment %q, which clients would resolve before sending the request",
				part)
		}
	}
	return nil
}

// bucketNamed returns a bucket.
func (s *Store) bucketNamed(name string) (*bucket, error) {
	if b := s.buckets[name]; b != nil {
		return b, nil
	}
	if len(s.names) == 0 {
		return nil, refuse(404, "the project has no storage source, so there are no buckets")
	}
	return nil, refuse(404, "no bucket %q; available: %s", name, strings.Join(s.names, ", "))
}

// find returns an object; nil when it is not there.
func (s *Store) find(b *bucket, key string) *Object {
	s.mu.Lock()
	defer s.mu.Unlock()
	return b.at(key)
}

// condition is looked at, with the object that is there or nil, before anything
// is changed.
type condition func(*Object) error

// before is what was there before an object was put.
type before struct {
	seen bool // an object of this key, in the bucket or below it
	own  bool // one that had been put into the bucket itself
}

// action returns what the put was.
func action(there bool) string {
	if there {
		return event.Overwritten
	}
	return event.Created
}

// put streams an object to disk and puts it in its place, at once or not at all.
func (s *Store) put(b *bucket, key, kind string, from io.Reader, holds condition) (o *Object, was before, err error) {
	if err := CheckKey(key); err != nil {
		return nil, was, err
	}
	if err := holds(s.find(b, key)); err != nil { // before gigabytes are read for nothing
		return nil, was, err
	}
	if b.ofFiles() && (!filepath.IsLocal(filepath.FromSlash(key)) || strings.HasSuffix(key, "/")) {
		return nil, was, refuse(400, "%q is not the name of a file in the folder of this bucket", key)
	}
	root, err := s.root(b)
	if err != nil {
		return nil, was, diskRefusal(err)
	}
	defer root.Close()
	to := "x" + rand.Text() + ".data"
	if b.Folder != "" {
		to = filepath.FromSlash(key)
	}
	if err := root.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return nil, was, leadsOut(key, err)
	}
	arriving := filepath.Join(filepath.Dir(to), ".arriving-"+rand.Text())
	temp, err := root.Create(arriving)
	if err != nil {
		return nil, was, leadsOut(key, err)
	}
	defer root.Remove(arriving) //nolint:errcheck // after the rename it is not there
	defer temp.Close()
	sum := sha256.New()
	size, err := io.Copy(io.MultiWriter(toDisk{temp}, sum), from)
	if err == nil {
		err = toDisk{temp}.wrap(temp.Close())
	}
	if err != nil {
		return nil, was, err
	}
	o = &Object{Key: key, Size: size, Kind: kind, ETag: `"` + hex.EncodeToString(sum.Sum(nil)[:16]) + `"`,
		Modified: time.Now().UTC().Truncate(time.Second), Data: to}
	s.mu.Lock()
	defer s.mu.Unlock()
	there, mine := b.at(key), b.objects[key]
	if err := holds(there); err != nil { // another may have come first
		return nil, was, err
	}
	was = before{there != nil, mine != nil}
	if err := root.Rename(arriving, to); err != nil {
		return nil, was, leadsOut(key, err)
	}
	if b.Folder != "" {
		o.Data = ""
		return o, was, nil
	}
	if err := s.describe(b, o); err != nil {
		_ = root.Remove(to)
		return nil, was, diskRefusal(err)
	}
	if mine != nil {
		_ = root.Remove(mine.Data) // whoever reads it still has it
	}
	b.objects[key] = o
	return o, was, nil
}

// root opens the folder of a bucket so that no path leads out of it, by whatever links; it
// makes the folder where it is missing.
func (s *Store) root(b *bucket) (*os.Root, error) {
	folder := b.Folder
	if folder == "" {
		folder = s.folder(b.Name)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	return os.OpenRoot(folder)
}

// name returns the name of an object's bytes within the folder of its bucket.
func (b *bucket) name(o *Object) string {
	if b.Folder != "" {
		return filepath.FromSlash(o.Key)
	}
	return o.Data
}

// open opens the bytes of an object.
func (s *Store) open(b *bucket, o *Object) (*os.File, error) {
	b = b.holder(o)
	root, err := b.in.root(b)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.Open(b.name(o))
}

// leadsOut refuses a key whose path leads out of its bucket's folder.
func leadsOut(key string, err error) error {
	if strings.Contains(err.Error(), "escapes from parent") { // the library has no name for it
		return refuse(400, "%q leads out of the bucket's folder through a link; nothing was changed", key)
	}
	return diskRefusal(err)
}

// toDisk marks errors of writing as such: those of reading are the client's.
type toDisk struct{ f *os.File }

func (t toDisk) Write(p []byte) (int, error) {
	n, err := t.f.Write(p)
	return n, t.wrap(err)
}

func (t toDisk) wrap(err error) error {
	if err != nil {
		return diskRefusal(err)
	}
	return nil
}

func diskRefusal(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return refuse(507, "the disk is full; nothing was changed")
	}
	return refuse(500, "the object cannot be written: %v; nothing was changed", err)
}

// card is the name of the file that describes an object: names of objects may be
// what no file can be called.
func card(key string) string {
	sum := sha256.Sum256([]byte(key))
	return hex.EncodeToString(sum[:]) + ".json"
}

func (s *Store) describe(b *bucket, o *Object) error {
	text, _ := json.Marshal(o) // plain data always marshals
	path := filepath.Join(s.folder(b.Name), card(o.Key))
	temp := path + ".new"
	if err := os.WriteFile(temp, text, 0o644); err != nil {
		_ = os.Remove(temp)
		return err
	}
	return os.Rename(temp, path)
}

// remove removes an object.
func (s *Store) remove(b *bucket, key string, holds condition) (*Object, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := b.at(key)
	if err := holds(o); err != nil {
		return nil, err
	}
	if o == nil {
		return nil, refuse(404, "no object %q in %s", key, b.Name)
	}
	if b.objects[key] == nil { // it is only seen here
		b.over.gone[key] = true
		return o, nil
	}
	root, err := s.root(b)
	if err != nil {
		return nil, diskRefusal(err)
	}
	defer root.Close()
	if b.Folder != "" {
		if err := root.Remove(b.name(o)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, leadsOut(key, err)
		}
		return o, nil
	}
	if err := os.Remove(filepath.Join(s.folder(b.Name), card(key))); err != nil {
		return nil, diskRefusal(err)
	}
	_ = root.Remove(b.name(o)) // what is left is removed when the store is opened
	delete(b.objects, key)
	if b.over != nil {
		b.over.gone[key] = true
	}
	return o, nil
}

// told returns what the event of a change says; the lock is held.
func (s *Store) told(b *bucket, o *Object, action string) event.Object {
	x := event.Object{Bucket: b.Name, Key: o.Key, Action: action}
	if action != event.Removed {
		x.Size, x.ContentType, x.ETag, x.URL = o.Size, o.Kind, o.ETag, urlOf(s.address, b.Name, o.Key)
	}
	return x
}

// URL returns where an object is served.
func (s *Store) URL(bucket, key string) string { return urlOf(s.Address(), bucket, key) }

func urlOf(address, bucket, key string) string {
	u := url.URL{Scheme: "http", Host: address, Path: "/" + bucket + "/" + key}
	return u.String()
}

// Keep stores an object and returns what its event reports.
func (s *Store) Keep(bucket, key, kind string, data []byte) (event.Object, error) {
	return s.KeepFrom(bucket, key, kind, strings.NewReader(string(data)))
}

// KeepFrom is Keep for bytes that are read.
func (s *Store) KeepFrom(bucket, key, kind string, from io.Reader) (event.Object, error) {
	b, err := s.bucketNamed(bucket)
	if err != nil {
		return event.Object{}, err
	}
	if kind == "" {
		kind = kindOf(key)
	}
	o, was, err := s.put(b, key, kind, from, func(*Object) error { return nil })
	if err != nil {
		return event.Object{}, err
	}
	if b.Folder != "" { // it is reported here, and not once more when it is seen
		s.mu.Lock()
		if f, err := s.open(b, o); err == nil {
			if info, err := f.Stat(); err == nil {
				o.Modified = info.ModTime()
			}
			f.Close()
		}
		b.objects[key] = o
		s.mu.Unlock()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	there := was.seen
	if s.passing { // what happens in a layer does not depend on what is below it
		there = was.own
	}
	return s.told(b, o, action(there)), nil
}

// Remove removes an object, and reports it.
func (s *Store) Remove(bucket, key string) error {
	b, err := s.bucketNamed(bucket)
	if err != nil {
		return err
	}
	o, err := s.remove(b, key, func(*Object) error { return nil })
	if err == nil {
		s.changed(b, o, event.Removed)
	}
	return err
}

// Find returns what an event would say of an object that is there.
func (s *Store) Find(bucket, key string) (o event.Object, ok bool) {
	b, err := s.bucketNamed(bucket)
	if err != nil {
		return o, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if x := b.at(key); x != nil {
		return s.told(b, x, event.Created), true
	}
	return o, false
}

// List returns the objects of a bucket in the order of their keys, from after one
// on, at most so many, and whether there are more.
func (s *Store) List(bucket, prefix, after string, most int) (out []Object, more bool, err error) {
	b, err := s.bucketNamed(bucket)
	if err != nil {
		return nil, false, err
	}
	s.mu.Lock()
	for key, o := range b.all() {
		if strings.HasPrefix(key, prefix) && key > after {
			out = append(out, *o)
		}
	}
	s.mu.Unlock()
	slices.SortFunc(out, func(a, b Object) int { return strings.Compare(a.Key, b.Key) })
	if len(out) > most {
		return out[:most], true, nil
	}
	return out, false, nil
}

// kinds are media types by the endings of names: the same on every machine.
var kinds = map[string]string{".csv": "text/csv", ".json": "application/json", ".ndjson": "application/x-ndjson",
	".txt": "text/plain; charset=utf-8", ".xml": "application/xml",
	".html": "text/html; charset=utf-8", ".pdf": "application/pdf", ".png": "image/png", ".jpg": "image/jpeg",
	".jpeg": "image/jpeg", ".gif": "image/gif", ".zip": "application/zip",
	".gz": "application/gzip", ".yaml": "application/yaml", ".yml": "application/yaml", ".svg": "image/svg+xml",
	".mp4": "video/mp4"}

func kindOf(key string) string {
	if kind := kinds[strings.ToLower(filepath.Ext(key))]; kind != "" {
		return kind
	}
	return "application/octet-stream"
}

// Bytes returns the bytes of an object of at most so many; nil of a larger one, or of
// one that is not there.
func (s *Store) Bytes(bucket, key string, most int64) []byte {
	b, err := s.bucketNamed(bucket)
	if err != nil {
		return nil
	}
	x := s.find(b, key)
	if x == nil || x.Size > most {
		return nil
	}
	f, err := s.open(b, x)
	if err != nil {
		return nil
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil || int64(len(data)) > most {
		return nil
	}
	return data
}
