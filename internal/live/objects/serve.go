package objects

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/hosts"
)

// Usual is where the object store listens when no one says otherwise.
const Usual = "127.0.0.1:8421"

// stalled is how long an upload may bring nothing before it is interrupted.
const stalled = time.Minute

// mostListed bounds one page of a listing.
const mostListed = 1000

// Listen opens the entrance at an address; at a free port when the usual one was
// wanted and is taken.
func (s *Store) Listen(wanted string) error {
	if wanted == Usual {
		wanted = ""
	}
	l, _, err := hosts.Listen(wanted, Usual)
	if err != nil {
		return fmt.Errorf("the object store cannot listen at %w", err)
	}
	server := &http.Server{Handler: http.HandlerFunc(s.serve), ReadHeaderTimeout: 10 * time.Second,
		MaxHeaderBytes: 256 << 10}
	s.mu.Lock()
	s.address, s.server = l.Addr().String(), server
	s.mu.Unlock()
	go func() { _ = server.Serve(l) }() // it ends with Close
	return nil
}

// Address returns where the store listens; "" where it does not.
func (s *Store) Address() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.address
}

// Close ends the listening and the watching, and removes what was put into a layer.
func (s *Store) Close() {
	s.end.Do(func() { close(s.life) })
	s.mu.Lock()
	server := s.server
	s.mu.Unlock()
	if server != nil {
		_ = server.Close()
	}
	s.watches.Wait()
	if s.passing {
		_ = os.RemoveAll(s.dir)
	}
}

func (s *Store) serve(w http.ResponseWriter, r *http.Request) {
	if err := s.answer(w, r); err != nil {
		var why *Refusal
		if !errors.As(err, &why) {
			why = &Refusal{400, err.Error()}
		}
		http.Error(w, "Night Drill: "+why.Text, why.Status)
	}
}

func (s *Store) answer(w http.ResponseWriter, r *http.Request) error {
	hosts.EndAfter(w, r)
	if why := hosts.Check(r, s.allowed); why != "" {
		return refuse(http.StatusMisdirectedRequest, "%s", why)
	}
	if hosts.Writes(r.Method) && hosts.CrossSite(r.Header.Get("Origin"), r.Header.Get("Sec-Fetch-Site"), r.Host) {
		return refuse(403, "pages of other sites must not change objects; nothing was changed")
	}
	if dav[r.Method] {
		s.webdav(w, r)
		return nil
	}
	name, rest, deeper := strings.Cut(strings.TrimPrefix(r.URL.EscapedPath(), "/"), "/")
	key, err := url.PathUnescape(rest)
	if err != nil {
		return refuse(400, "the path is not validly percent-encoded")
	}
	if name, err = url.PathUnescape(name); err != nil {
		return refuse(400, "the path is not validly percent-encoded")
	}
	reading := r.Method == http.MethodGet || r.Method == http.MethodHead
	if name == "" {
		if !reading {
			w.Header().Set("Allow", "GET, HEAD")
			return refuse(405, "the list of buckets is read-only; buckets are defined in the project file")
		}
		return s.listBuckets(w)
	}
	b, err := s.bucketNamed(name)
	if err != nil {
		return err
	}
	if !deeper || key == "" {
		if r.Method == http.MethodDelete {
			return refuse(405, "a bucket is defined in the project file and cannot be deleted")
		}
		if !reading {
			w.Header().Set("Allow", "GET, HEAD")
			return refuse(405, "a bucket can only be listed; to put an object, name it: PUT /%s/KEY", name)
		}
		return s.list(w, r, b)
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		return s.get(w, r, b, key)
	case http.MethodPut:
		return s.take(w, r, b, key)
	case http.MethodDelete:
		if s.find(b, key) == nil && s.isFolder(b, strings.TrimSuffix(key, "/")) { // with all that is in it
			s.webdav(w, r)
			return nil
		}
		o, err := s.remove(b, key, conditions(r))
		if err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		s.changed(b, o, event.Removed)
		return nil
	}
	w.Header().Set("Allow", "GET, HEAD, PUT, DELETE")
	return refuse(405, "objects do not support the method %s; available: GET, HEAD, PUT and DELETE", r.Method)
}

// changed emits an event for a change; changes in watched folders are emitted when they are seen
// there.
func (s *Store) changed(b *bucket, o *Object, action string) {
	if s.tell != nil && b.Folder == "" {
		s.mu.Lock()
		told := s.told(b, o, action)
		s.mu.Unlock()
		s.tell(told, time.Now())
	}
}

func (s *Store) get(w http.ResponseWriter, r *http.Request, b *bucket, key string) error {
	for range 2 { // it may be overwritten between the look and the opening
		o := s.find(b, key)
		if o == nil {
			return refuse(404, "no object %q in %s", key, b.Name)
		}
		f, err := s.open(b, o)
		if err != nil {
			continue
		}
		defer f.Close()
		w.Header().Set("Content-Type", o.Kind)
		w.Header().Set("ETag", o.ETag)
		// ranges and conditions by the standard library (RFC 9110 §13, §14)
		http.ServeContent(w, r, "", o.Modified, f)
		return nil
	}
	return refuse(404, "object %q in %s no longer exists", key, b.Name)
}

// take takes an upload.
func (s *Store) take(w http.ResponseWriter, r *http.Request, b *bucket, key string) error {
	if r.Header.Get("Content-Range") != "" {
		return refuse(400, "a part of an object cannot be put (RFC 9110 §14.5)")
	}
	kind := r.Header.Get("Content-Type")
	if kind == "" || kind == "application/x-www-form-urlencoded" { // what curl says when no one said anything
		kind = kindOf(key)
	}
	body := &patient{r.Body, http.NewResponseController(w)}
	o, was, err := s.put(b, key, kind, body, conditions(r))
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return refuse(408, "the upload sent nothing for %v; nothing was changed", text.Duration(stalled))
	case errors.Is(err, io.ErrUnexpectedEOF):
		return refuse(400, "the upload ended before it was complete; nothing was changed")
	case err != nil:
		return err
	}
	w.Header().Set("ETag", o.ETag)
	status := http.StatusOK
	if !was.seen {
		w.Header().Set("Location", s.URL(b.Name, key))
		status = http.StatusCreated
	}
	w.WriteHeader(status)
	s.changed(b, o, action(was.seen))
	return nil
}

// patient gives an upload time as long as something comes.
type patient struct {
	from io.Reader
	w    *http.ResponseController
}

func (p *patient) Read(b []byte) (int, error) {
	_ = p.w.SetReadDeadline(time.Now().Add(stalled)) // where it cannot be set, nothing is cut off
	n, err := p.from.Read(b)
	if err != nil {
		_ = p.w.SetReadDeadline(time.Time{})
	}
	return n, err
}

// conditions are those of a request that changes something (RFC 9110 §13.1).
func conditions(r *http.Request) condition {
	return func(o *Object) error {
		if want := r.Header.Get("If-Match"); want != "" && !matches(want, o) {
			return refuse(412, "the object is not the one that If-Match names; nothing was changed")
		}
		if unwanted := r.Header.Get("If-None-Match"); unwanted != "" && matches(unwanted, o) {
			return refuse(412, "the object exists, and If-None-Match excludes it; nothing was changed")
		}
		if text := r.Header.Get("If-Unmodified-Since"); text != "" && r.Header.Get("If-Match") == "" {
			if t, err := http.ParseTime(text); err == nil && (o == nil || o.Modified.Truncate(time.Second).After(t)) {
				return refuse(412, "the object was changed since %s; nothing was changed now", text)
			}
		}
		return nil
	}
}

func matches(header string, o *Object) bool {
	if o == nil {
		return false
	}
	return slices.ContainsFunc(strings.Split(header, ","), func(tag string) bool {
		tag = strings.TrimSpace(tag)
		return tag == "*" || strings.TrimPrefix(tag, "W/") == o.ETag
	})
}

func (s *Store) listBuckets(w http.ResponseWriter) error {
	type line struct {
		Name    string `json:"name"`
		Objects int    `json:"objects"`
		Bytes   int64  `json:"bytes"`
		URL     string `json:"url"`
	}
	out := struct {
		Buckets []line `json:"buckets"`
	}{[]line{}}
	for _, name := range s.names {
		x := line{Name: name, URL: s.URL(name, "")}
		s.mu.Lock()
		for _, o := range s.buckets[name].all() {
			x.Objects++
			x.Bytes += o.Size
		}
		s.mu.Unlock()
		out.Buckets = append(out.Buckets, x)
	}
	return writeJSON(w, out)
}

func (s *Store) list(w http.ResponseWriter, r *http.Request, b *bucket) error {
	type line struct {
		Object
		URL string `json:"url"`
	}
	q := r.URL.Query()
	most := mostListed
	if text := q.Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostListed {
			return refuse(400, "limit is %q; expected a number from 1 to %d", text, mostListed)
		}
		most = n
	}
	objects, more, err := s.List(b.Name, q.Get("prefix"), q.Get("after"), most)
	if err != nil {
		return err
	}
	out := struct {
		Bucket  string `json:"bucket"`
		Objects []line `json:"objects"`
		More    bool   `json:"more"` // ask again with after= the last key
	}{b.Name, []line{}, more}
	for _, o := range objects {
		o.Data = ""
		out.Objects = append(out.Objects, line{o, s.URL(b.Name, o.Key)})
	}
	return writeJSON(w, out)
}

func writeJSON(w http.ResponseWriter, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(append(text, '\n')) // a client that is gone needs nothing
	return nil
}
