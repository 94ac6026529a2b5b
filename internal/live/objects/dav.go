package objects

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/webdav"
)

// The store also speaks WebDAV (RFC 4918), so that file managers open it as a folder: buckets are folders, and so is
// what the keys of objects have before a slash. Objects themselves are still put, read and deleted by the rules of the
// store; what is below goes by the methods that HTTP does not have.

// dav are the methods of WebDAV that the store leaves to it.
var dav = map[string]bool{http.MethodOptions: true, "PROPFIND": true, "PROPPATCH": true, "MKCOL": true, "COPY": true,
	"MOVE": true, "LOCK": true, "UNLOCK": true}

// mostMoved bounds how many objects are copied or moved with a folder.
const mostMoved = 10_000

func (s *Store) webdav(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	if s.locks == nil {
		s.locks = webdav.NewMemLS()
	}
	h := &webdav.Handler{FileSystem: davFiles{s}, LockSystem: s.locks}
	s.mu.Unlock()
	h.ServeHTTP(w, r)
}

// davFiles are the objects of a store as files.
type davFiles struct{ s *Store }

// split returns the bucket and the key that a path is of; b is nil for the root.
func (d davFiles) split(name string) (b *bucket, key string, err error) {
	name = strings.Trim(path.Clean("/"+name), "/")
	if name == "" || name == "." {
		return nil, "", nil
	}
	bucket, key, _ := strings.Cut(name, "/")
	if b = d.s.buckets[bucket]; b == nil {
		return nil, "", fs.ErrNotExist
	}
	return b, key, nil
}

// isFolder reports whether objects are below a name, or a folder of this name was made.
func (s *Store) isFolder(b *bucket, name string) bool {
	if name == "" {
		return true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made[b.Name+"/"+name] {
		return true
	}
	for key := range b.all() {
		if strings.HasPrefix(key, name+"/") {
			return true
		}
	}
	return false
}

// below returns the keys below a folder.
func (s *Store) below(b *bucket, name string) (keys []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key := range b.all() {
		if name == "" || strings.HasPrefix(key, name+"/") {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

// Mkdir makes an empty folder, which is there until the program ends or something is in it.
func (d davFiles) Mkdir(_ context.Context, name string, _ os.FileMode) error {
	b, key, err := d.split(name)
	if err != nil || b == nil || key == "" {
		return fs.ErrPermission // buckets are defined in the project file
	}
	if err := CheckKey(key); err != nil {
		return fs.ErrInvalid
	}
	if d.s.find(b, key) != nil || d.s.isFolder(b, key) {
		return fs.ErrExist
	}
	if parent := path.Dir(key); parent != "." && !d.s.isFolder(b, parent) {
		return fs.ErrNotExist
	}
	d.s.mu.Lock()
	defer d.s.mu.Unlock()
	if d.s.made == nil {
		d.s.made = map[string]bool{}
	}
	if len(d.s.made) >= mostMoved {
		return fs.ErrPermission
	}
	d.s.made[b.Name+"/"+key] = true
	return nil
}

// Stat describes a file or a folder.
func (d davFiles) Stat(_ context.Context, name string) (os.FileInfo, error) {
	b, key, err := d.split(name)
	switch {
	case err != nil:
		return nil, err
	case b == nil:
		return info{name: "/", folder: true}, nil
	case key == "":
		return info{name: b.Name, folder: true}, nil
	}
	if o := d.s.find(b, key); o != nil {
		return info{name: path.Base(key), object: *o}, nil
	}
	if d.s.isFolder(b, key) {
		return info{name: path.Base(key), folder: true}, nil
	}
	return nil, fs.ErrNotExist
}

// RemoveAll removes an object, or a folder with all that is in it.
func (d davFiles) RemoveAll(_ context.Context, name string) error {
	b, key, err := d.split(name)
	if err != nil || b == nil || key == "" {
		return fs.ErrPermission
	}
	d.s.mu.Lock()
	for made := range d.s.made {
		if made == b.Name+"/"+key || strings.HasPrefix(made, b.Name+"/"+key+"/") {
			delete(d.s.made, made)
		}
	}
	d.s.mu.Unlock()
	keys := d.s.below(b, key)
	if d.s.find(b, key) != nil {
		keys = append(keys, key)
	}
	for _, k := range keys {
		if err := d.s.Remove(b.Name, k); err != nil {
			return err
		}
	}
	return nil
}

// Rename moves an object, or a folder with all that is in it: what is new is created, what is old is removed.
func (d davFiles) Rename(ctx context.Context, from, to string) error {
	b, key, err := d.split(from)
	c, other, wrong := d.split(to)
	if errors.Join(err, wrong) != nil || b == nil || c == nil || key == "" || other == "" {
		return fs.ErrPermission
	}
	keys := d.s.below(b, key)
	if d.s.find(b, key) != nil {
		keys = append(keys, key)
	}
	if len(keys) > mostMoved {
		return fs.ErrPermission
	}
	for _, k := range keys {
		target := other + strings.TrimPrefix(k, key)
		if err := d.copy(b, k, c, target); err != nil {
			return err
		}
		if err := d.s.Remove(b.Name, k); err != nil {
			return err
		}
	}
	d.s.mu.Lock()
	made := d.s.made[b.Name+"/"+key]
	delete(d.s.made, b.Name+"/"+key)
	d.s.mu.Unlock()
	if made && !d.s.isFolder(c, other) {
		return d.Mkdir(ctx, to, 0o755)
	}
	return nil
}

func (d davFiles) copy(b *bucket, key string, c *bucket, other string) error {
	o := d.s.find(b, key)
	if o == nil {
		return fs.ErrNotExist
	}
	f, err := d.s.open(b, o)
	if err != nil {
		return err
	}
	defer f.Close()
	return d.s.putFile(c, other, o.Kind, f)
}

// putFile puts an object, and reports it.
func (s *Store) putFile(b *bucket, key, kind string, from io.Reader) error {
	o, was, err := s.put(b, key, kind, from, func(*Object) error { return nil })
	if err == nil {
		s.changed(b, o, action(was.seen))
	}
	return err
}

// OpenFile opens a file or a folder to be read, or a file to be written.
func (d davFiles) OpenFile(ctx context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	b, key, err := d.split(name)
	if err != nil {
		return nil, err
	}
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		if b == nil || key == "" || d.s.isFolder(b, key) && d.s.find(b, key) == nil {
			return nil, fs.ErrPermission
		}
		return d.writing(b, key), nil
	}
	at, err := d.Stat(ctx, name)
	if err != nil {
		return nil, err
	}
	if at.IsDir() {
		return &folder{d: d, ctx: ctx, name: name, info: at}, nil
	}
	f, err := d.s.open(b, d.s.find(b, key))
	if err != nil {
		return nil, err
	}
	return &davFile{File: f, info: at}, nil
}

// davFile is an object that is read.
type davFile struct {
	*os.File
	info os.FileInfo
}

func (f *davFile) Stat() (os.FileInfo, error) { return f.info, nil }

// Readdir implements webdav.File.
func (f *davFile) Readdir(int) ([]os.FileInfo, error) { return nil, fs.ErrInvalid }

// Write implements webdav.File.
func (f *davFile) Write([]byte) (int, error) { return 0, fs.ErrPermission }

// upload is an object that is written: it is there once it is closed.
type upload struct {
	*io.PipeWriter
	key  string
	size int64
	done chan error
}

func (d davFiles) writing(b *bucket, key string) *upload {
	r, w := io.Pipe()
	u := &upload{PipeWriter: w, key: key, done: make(chan error, 1)}
	go func() {
		err := d.s.putFile(b, key, kindOf(key), r)
		_ = r.CloseWithError(err) // what is still written hears of it
		u.done <- err
	}()
	return u
}

// Write implements webdav.File.
func (u *upload) Write(b []byte) (int, error) {
	n, err := u.PipeWriter.Write(b)
	u.size += int64(n)
	return n, err
}

// Close puts the object in its place.
func (u *upload) Close() error {
	_ = u.PipeWriter.Close() // it always succeeds
	return <-u.done
}

// Stat implements webdav.File.
func (u *upload) Stat() (os.FileInfo, error) {
	return info{name: path.Base(u.key), object: Object{Size: u.size, Modified: time.Now()}}, nil
}

// Read implements webdav.File.
func (u *upload) Read([]byte) (int, error) { return 0, fs.ErrPermission }

// Seek implements webdav.File.
func (u *upload) Seek(int64, int) (int64, error) { return 0, fs.ErrPermission }

// Readdir implements webdav.File.
func (u *upload) Readdir(int) ([]os.FileInfo, error) { return nil, fs.ErrInvalid }

// folder is a folder that is read.
type folder struct {
	d    davFiles
	ctx  context.Context
	name string
	info os.FileInfo
	rest []os.FileInfo
	read bool
}

// Readdir returns what is in the folder.
func (f *folder) Readdir(n int) ([]os.FileInfo, error) {
	if !f.read {
		f.read = true
		f.rest = f.list()
	}
	if n <= 0 {
		out := f.rest
		f.rest = nil
		return out, nil
	}
	if len(f.rest) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(f.rest))
	out := f.rest[:n]
	f.rest = f.rest[n:]
	return out, nil
}

func (f *folder) list() (out []os.FileInfo) {
	b, key, err := f.d.split(f.name)
	if err != nil {
		return nil
	}
	if b == nil {
		for _, name := range f.d.s.names {
			out = append(out, info{name: name, folder: true})
		}
		return out
	}
	seen := map[string]bool{}
	prefix := ""
	if key != "" {
		prefix = key + "/"
	}
	f.d.s.mu.Lock()
	defer f.d.s.mu.Unlock()
	for k, o := range b.all() {
		rest, ok := strings.CutPrefix(k, prefix)
		if !ok || rest == "" {
			continue
		}
		if name, _, deeper := strings.Cut(rest, "/"); !deeper {
			out = append(out, info{name: name, object: *o})
		} else if !seen[name] && name != "" {
			seen[name] = true
			out = append(out, info{name: name, folder: true})
		}
	}
	for made := range f.d.s.made {
		rest, ok := strings.CutPrefix(made, b.Name+"/"+prefix)
		if ok && rest != "" && !strings.Contains(rest, "/") && !seen[rest] {
			out = append(out, info{name: rest, folder: true})
		}
	}
	slices.SortFunc(out, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return out
}

func (f *folder) Stat() (os.FileInfo, error) { return f.info, nil }

// Close implements webdav.File.
func (f *folder) Close() error { return nil }

// Read implements webdav.File.
func (f *folder) Read([]byte) (int, error) { return 0, fs.ErrInvalid }

// Seek implements webdav.File.
func (f *folder) Seek(int64, int) (int64, error) { return 0, fs.ErrInvalid }

// Write implements webdav.File.
func (f *folder) Write([]byte) (int, error) { return 0, fs.ErrPermission }

// info describes an object or a folder as a file.
type info struct {
	name   string
	folder bool
	object Object
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.object.Size }
func (i info) ModTime() time.Time { return i.object.Modified }
func (i info) IsDir() bool        { return i.folder }
func (i info) Sys() any           { return nil }

// Mode implements fs.FileInfo.
func (i info) Mode() fs.FileMode {
	if i.folder {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

// ETag implements webdav.ETager.
func (i info) ETag(context.Context) (string, error) {
	if i.object.ETag == "" {
		return "", webdav.ErrNotImplemented
	}
	return i.object.ETag, nil
}

// ContentType implements webdav.ContentTyper.
func (i info) ContentType(context.Context) (string, error) {
	if i.object.Kind == "" {
		return "", webdav.ErrNotImplemented
	}
	return i.object.Kind, nil
}
