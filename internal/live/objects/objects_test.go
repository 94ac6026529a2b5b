package objects

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
)

type shop struct {
	*testing.T
	*Store
	told chan event.Object
}

func open(t *testing.T, dir string, buckets ...Bucket) *shop {
	t.Helper()
	s, err := Open(dir, buckets)
	if err != nil {
		t.Fatal(err)
	}
	x := &shop{t, s, make(chan event.Object, 1000)}
	s.Tell(func(o event.Object, _ time.Time) { x.told <- o })
	if err := s.Listen("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return x
}

// ask sends a request and returns status, headers and body.
func (s *shop) ask(method, path, body string, headers ...string) (int, http.Header, string) {
	s.Helper()
	r, err := http.NewRequest(method, "http://"+s.Address()+path, strings.NewReader(body))
	if err != nil {
		s.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		s.Fatal(err)
	}
	defer reply.Body.Close()
	text, _ := io.ReadAll(reply.Body)
	return reply.StatusCode, reply.Header, string(text)
}

// raw sends bytes as they are, and returns the first line of the answer.
func (s *shop) raw(text string, end bool) string {
	s.Helper()
	c, err := net.Dial("tcp", s.Address())
	if err != nil {
		s.Fatal(err)
	}
	defer c.Close()
	_, _ = io.WriteString(c, text)
	if end {
		_ = c.(*net.TCPConn).CloseWrite()
	}
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

func (s *shop) next() event.Object {
	s.Helper()
	select {
	case o := <-s.told:
		return o
	case <-time.After(2 * time.Minute):
		s.Fatal("nothing was told")
	}
	return event.Object{}
}

func (s *shop) quiet() {
	s.Helper()
	select {
	case o := <-s.told:
		s.Errorf("emitted %+v", o)
	default:
	}
}

// An object comes, is read whole, in part and under conditions, is overwritten
// and goes; each change is told once, with a URL that serves it. The store finds
// it again when it is opened anew.
func TestTheLifeOfAnObject(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, Bucket{Name: "cargo"})
	status, h, _ := s.ask("PUT", "/cargo/manifests/heron%20a.csv", "crate,12\n", "If-None-Match", "*")
	if status != 201 || h.Get("Location") == "" {
		t.Fatalf("PUT gave %d, %v", status, h)
	}
	o := s.next()
	if o.Action != event.Created || o.Key != "manifests/heron a.csv" || o.Size != 9 || o.ContentType != "text/csv" ||
		o.ETag != h.Get("ETag") {
		t.Errorf("told %+v", o)
	}
	reply, err := http.Get(o.URL)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(reply.Body)
	reply.Body.Close()
	if string(text) != "crate,12\n" || reply.Header.Get("Content-Type") != "text/csv" {
		t.Errorf("%s serves %q as %s", o.URL, text, reply.Header.Get("Content-Type"))
	}
	const path = "/cargo/manifests/heron%20a.csv"
	for _, c := range []struct {
		method, header, value string
		status                int
		body                  string
	}{
		{"GET", "Range", "bytes=6-7", 206, "12"},
		{"GET", "Range", "bytes=-3", 206, "12\n"},
		{"GET", "Range", "bytes=99-", 416, ""},
		{"GET", "If-None-Match", o.ETag, 304, ""},
		{"GET", "If-Match", `"other"`, 412, ""},
		{"GET", "If-Modified-Since", time.Now().Add(time.Hour).UTC().Format(http.TimeFormat), 304, ""},
		{"HEAD", "Accept", "*/*", 200, ""},
		{"PUT", "If-None-Match", "*", 412, "x"},
		{"PUT", "If-Match", `"other"`, 412, "x"},
		{"PUT", "Content-Range", "bytes 0-1/9", 400, "x"},
		{"DELETE", "If-Match", `"other"`, 412, ""},
		{"POST", "Accept", "*/*", 405, ""},
	} {
		body := ""
		if c.method == "PUT" {
			body = c.body
		}
		if status, _, got := s.ask(c.method, path, body, c.header, c.value); status != c.status || c.method == "GET" &&
			status < 300 && got != c.body {
			t.Errorf("%s with %s: %s gave %d %q, want %d %q", c.method, c.header, c.value, status, got, c.status,
				c.body)
		}
	}
	s.quiet()
	if status, _, _ := s.ask("PUT", path, "crate,13\ncrate,1\n", "If-Match", o.ETag, "Content-Type",
		"text/x-manifest"); status != 200 {
		t.Errorf("PUT over it gave %d", status)
	}
	if o = s.next(); o.Action != event.Overwritten || o.ContentType != "text/x-manifest" {
		t.Errorf("told %+v", o)
	}
	again := open(t, dir, Bucket{Name: "cargo"})
	if _, _, got := again.ask("GET", path, ""); got != "crate,13\ncrate,1\n" {
		t.Errorf("opened anew it is %q", got)
	}
	if files, _ := os.ReadDir(filepath.Join(dir, "cargo")); len(files) != 2 {
		t.Errorf("%d files are kept of one object", len(files))
	}
	if status, _, _ := s.ask("DELETE", path, ""); status != 204 {
		t.Errorf("DELETE gave %d", status)
	}
	if o = s.next(); o.Action != event.Removed || o.URL != "" {
		t.Errorf("told %+v", o)
	}
	if status, _, _ := s.ask("DELETE", path, ""); status != 404 {
		t.Errorf("DELETE again gave %d", status)
	}
	s.quiet()
}

func TestListing(t *testing.T) {
	s := open(t, t.TempDir(), Bucket{Name: "cargo"}, Bucket{Name: "cargo"}, Bucket{Name: "tides"})
	for i := range 5 {
		s.ask("PUT", fmt.Sprintf("/cargo/m/%d", i), "x")
	}
	s.ask("PUT", "/cargo/other", "x")
	var page struct {
		Objects []struct{ Key, URL string }
		More    bool
	}
	var keys []string
	for after := ""; ; {
		_, _, text := s.ask("GET", "/cargo?prefix=m/&limit=2&after="+after, "")
		if err := json.Unmarshal([]byte(text), &page); err != nil {
			t.Fatal(err, text)
		}
		for _, o := range page.Objects {
			keys = append(keys, o.Key)
			after = o.Key
		}
		if !page.More {
			break
		}
	}
	if got := strings.Join(keys, " "); got != "m/0 m/1 m/2 m/3 m/4" {
		t.Errorf("listed %s", got)
	}
	if _, _, text := s.ask("GET", "/", ""); !strings.Contains(text, `"objects": 6`) ||
		!strings.Contains(text, "tides") {
		t.Errorf("buckets %s", text)
	}
	for path, want := range map[string]string{"/cargo?limit=x": "expected a number",
		"/crago": `no bucket "crago"; available: cargo, tides`, "/cargo/none": "no object"} {
		if status, _, text := s.ask("GET", path, ""); status < 400 || !strings.Contains(text, want) {
			t.Errorf("%s gave %d %s", path, status, text)
		}
	}
}

// Names and uploads that are wrong change nothing, are reported nowhere, leave no
// file behind, and get an answer that says what is wrong.
func TestWhatIsWrongChangesNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, Bucket{Name: "cargo"}, Bucket{Name: "drop", Folder: filepath.Join(dir, "drop")})
	for _, c := range []struct{ text, want string }{
		{"PUT /cargo/a/../../b HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"PUT /cargo/%2e%2e/b HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"PUT /cargo/a%00b HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"PUT /cargo/a%1b%5b2J HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"PUT /cargo/%ff HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"PUT /cargo/" + strings.Repeat("k", KeyLimit+1) + " HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx",
			"400"},
		{"PUT /cargo/a HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\nxy", "400"},
		{"PUT /cargo/a HTTP/1.1\r\nHost: localhost\r\nContent-Length: 9\r\n\r\nbroken", "400"},
		{"PUT /cargo/a HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nab", "400"},
		{"PUT /cargo/" + strings.Repeat("k", 400_000) + " HTTP/1.1\r\nHost: localhost\r\n\r\n", "431"},
		{"PUT /cargo HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "405"},
		{"PUT /drop/a/ HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1\r\n\r\nx", "400"},
		{"GET /cargo/%zz HTTP/1.1\r\nHost: localhost\r\n\r\n", "400"},
	} {
		if got := s.raw(c.text, true); !strings.HasPrefix(got, "HTTP/1.1 "+c.want) {
			t.Errorf("%.60q gave %q, want %s", c.text, got, c.want)
		}
	}
	s.quiet()
	_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			t.Errorf("%s is left", path)
		}
		return nil
	})
	for _, key := range []string{"ålesund/Größe 3.csv", "港/貨物.csv", strings.Repeat("k", KeyLimit), "a//b", "con", "A",
		"a", "...", "x/.hidden"} {
		if _, err := s.Keep("cargo", key, "", []byte(key)); err != nil {
			t.Errorf("%.40q: %v", key, err)
			continue
		}
		o, _ := s.Find("cargo", key)
		reply, err := http.Get(o.URL)
		if err != nil {
			t.Fatal(err)
		}
		if text, _ := io.ReadAll(reply.Body); string(text) != key {
			t.Errorf("%.40q is served as %.40q", key, text)
		}
		reply.Body.Close()
	}
	var why *Refusal
	if err := diskRefusal(&os.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}); !errors.As(err, &why) ||
		why.Status != 507 || !strings.Contains(why.Text, "disk is full") {
		t.Errorf("a full disk gives %v", err)
	}
}

// A folder's files are objects: those that come, change and go are reported once
// they are left alone, those that were there are not.
func TestAWatchedFolder(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "drop")
	write := func(name, text string) {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("there.csv", "x")
	s := open(t, t.TempDir(), Bucket{Name: "drop", Folder: folder})
	write("early.csv", "before anybody watches")
	if err := s.Watch(); err != nil {
		t.Fatal(err)
	}
	if o := s.next(); o.Action != event.Created || o.Key != "early.csv" {
		t.Errorf("told %+v", o)
	}
	write("meanwhile.csv", "emitted once, by the store before or by this one")
	again, err := s.Reopen([]Bucket{{Name: "drop", Folder: folder}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(again.Close)
	s.Store = again
	if err := s.Watch(); err != nil {
		t.Fatal(err)
	}
	if o := s.next(); o.Action != event.Created || o.Key != "meanwhile.csv" {
		t.Errorf("told %+v", o)
	}
	write("deep/er/a.csv", "crate")
	if o := s.next(); o.Action != event.Created || o.Key != "deep/er/a.csv" || o.Size != 5 {
		t.Errorf("told %+v", o)
	} else if _, _, text := s.ask("GET", "/drop/deep/er/a.csv", ""); text != "crate" {
		t.Errorf("it is served as %q", text)
	}
	write("there.csv", "changed")
	if o := s.next(); o.Action != event.Overwritten || o.Key != "there.csv" {
		t.Errorf("told %+v", o)
	}
	if err := os.Remove(filepath.Join(folder, "there.csv")); err != nil {
		t.Fatal(err)
	}
	if o := s.next(); o.Action != event.Removed || o.Key != "there.csv" {
		t.Errorf("told %+v", o)
	}
	// an upload goes into the folder, and is reported once
	if status, _, _ := s.ask("PUT", "/drop/up.json", "{}"); status != 201 {
		t.Errorf("PUT gave %d", status)
	}
	if o := s.next(); o.Action != event.Created || o.Key != "up.json" || o.ContentType != "application/json" {
		t.Errorf("told %+v", o)
	}
	// what is kept quietly stays quiet
	if _, err := s.Keep("drop", "quiet.txt", "", []byte("x")); err != nil {
		t.Fatal(err)
	}
	write("last.txt", "x")
	if o := s.next(); o.Key != "last.txt" {
		t.Errorf("told %+v", o)
	}
	s.quiet()
}

// No one gets in by another name, from a page of another site, or by a link that leads out of
// a bucket's folder.
func TestNobodyGetsIn(t *testing.T) {
	dir, folder, outside := t.TempDir(), t.TempDir(), t.TempDir()
	if err := os.WriteFile(filepath.Join(outside, "secret.txt"), []byte("secret"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "plain.txt"), []byte("plain"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(folder, "out")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(folder, "deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "deep", "secret.txt"), []byte("known"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir, Bucket{Name: "cargo", Folder: folder})
	// a folder that is known becomes a link
	if err := os.RemoveAll(filepath.Join(folder, "deep")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(folder, "deep")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		method, path string
		headers      []string
		status       int
	}{
		{"GET", "/cargo/plain.txt", nil, 200},
		{"GET", "/cargo/out/secret.txt", nil, 404},
		{"GET", "/cargo/deep/secret.txt", nil, 404},
		{"PUT", "/cargo/out/new.txt", nil, 400},
		{"PUT", "/cargo/deep/secret.txt", nil, 400},
		{"DELETE", "/cargo/deep/secret.txt", nil, 400},
		{"PUT", "/cargo/plain.txt", []string{"Origin", "http://page.example"}, 403},
		{"DELETE", "/cargo/plain.txt", []string{"Sec-Fetch-Site", "cross-site"}, 403},
		{"PUT", "/cargo/plain.txt", []string{"Origin", "http://" + s.Address()}, 200},
	} {
		if status, _, text := s.ask(c.method, c.path, "x", c.headers...); status != c.status ||
			strings.Contains(text, "secret\n") {
			t.Errorf("%s %s %v: %d %s, want %d", c.method, c.path, c.headers, status, text, c.status)
		}
	}
	if line := s.raw("GET /cargo/plain.txt HTTP/1.1\r\nHost: rebound.example\r\n\r\n",
		false); line != "HTTP/1.1 421 Misdirected Request" {
		t.Errorf("by another name: %s", line)
	}
	if entries, _ := os.ReadDir(outside); len(entries) != 1 {
		t.Errorf("outside there are %v", entries)
	}
	if text, _ := os.ReadFile(filepath.Join(outside, "secret.txt")); string(text) != "secret" {
		t.Errorf("the file outside is %q", text)
	}
	if entries, _ := filepath.Glob(filepath.Join(folder, ".arriving*")); len(entries) > 0 {
		t.Errorf("left are %v", entries)
	}
}

// A layer has the objects below it; what is put and removed in it changes none of them, and
// goes with it.
func TestALayer(t *testing.T) {
	dir, folder := t.TempDir(), t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "file.txt"), []byte("the user's"), 0o644); err != nil {
		t.Fatal(err)
	}
	base := open(t, filepath.Join(dir, "objects"), Bucket{Name: "cargo"}, Bucket{Name: "files", Folder: folder})
	for _, key := range []string{"kept", "removed", "replaced"} {
		base.ask("PUT", "/cargo/"+key, "the user's")
		base.next()
	}
	layer := base.Layer(filepath.Join(dir, "layer"))
	x := &shop{t, layer, base.told}
	if err := x.Listen("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		method, path string
		status       int
	}{
		{"PUT", "/cargo/replaced", 200}, {"PUT", "/cargo/new", 201}, {"DELETE", "/cargo/removed", 204},
		{"DELETE", "/cargo/removed", 404},
		{"PUT", "/files/file.txt", 200}, {"PUT", "/files/../file.txt", 400}, {"PUT", "/files/new.txt", 201},
		{"DELETE", "/files/new.txt", 204},
	} {
		if status, _, text := x.ask(step.method, step.path, "the drill's"); status != step.status {
			t.Errorf("%s %s: %d %s", step.method, step.path, status, text)
		}
	}
	base.ask("PUT", "/cargo/later", "the user's")
	base.next()
	for path, want := range map[string][2]string{ // in the base, and in the layer
		"/cargo/kept": {"the user's", "the user's"}, "/cargo/later": {"the user's", "the user's"},
		"/cargo/new":     {"", "the drill's"},
		"/cargo/removed": {"the user's", ""}, "/cargo/replaced": {"the user's", "the drill's"},
		"/files/file.txt": {"the user's", "the drill's"},
	} {
		for n, s := range []*shop{base, x} {
			status, _, text := s.ask("GET", path, "")
			if want[n] == "" && status != 404 || want[n] != "" && text != want[n] {
				t.Errorf("%d has %s as %d %q", n, path, status, text)
			}
		}
	}
	if list, _, _ := x.List("cargo", "", "", 10); len(list) != 4 {
		t.Errorf("the layer lists %+v", list)
	}
	if data := x.Bytes("cargo", "replaced", 100); string(data) != "the drill's" {
		t.Errorf("its bytes are %q", data)
	}
	x.quiet() // no one is reported what a drill does
	layer.Close()
	if _, err := os.Stat(filepath.Join(dir, "layer")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the layer's folder is left: %v", err)
	}
}

// A store that another program has open is seen as that one changes it, and is not changed.
func TestABorrowedStore(t *testing.T) {
	dir := t.TempDir()
	first := open(t, filepath.Join(dir, "objects"), Bucket{Name: "cargo"})
	second, err := Borrow(filepath.Join(dir, "objects"), filepath.Join(dir, "apart"), []Bucket{{Name: "cargo"}})
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	has := func(s *Store, key, want string) {
		t.Helper()
		if got := string(s.Bytes("cargo", key, 100)); got != want {
			t.Errorf("%s is %q, not %q", key, got, want)
		}
	}
	first.ask("PUT", "/cargo/one", "first")
	has(second, "one", "first")
	first.ask("PUT", "/cargo/one", "first again")
	has(second, "one", "first again")
	if o, err := second.Keep("cargo", "one", "", []byte("second")); err != nil || o.Action != event.Overwritten {
		t.Errorf("%+v, %v", o, err)
	}
	has(second, "one", "second")
	has(first.Store, "one", "first again")
	more, err := second.Reopen([]Bucket{{Name: "cargo"}, {Name: "more"}})
	if err != nil {
		t.Fatal(err)
	}
	has(more, "one", "second")
	if err := more.Remove("cargo", "one"); err != nil {
		t.Error(err)
	}
	has(more, "one", "")
	if list, _, _ := more.List("cargo", "", "", 10); len(list) != 0 {
		t.Errorf("it lists %+v", list)
	}
	has(first.Store, "one", "first again")
	if status, _, text := first.ask("GET", "/cargo/one", ""); status != 200 || text != "first again" {
		t.Errorf("the first answers %d %q", status, text)
	}
}
