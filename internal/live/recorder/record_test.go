package recorder

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightdrill.dev/internal/core/payload"
)

func read(t *testing.T, path string) []payload.Payload {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	list, mistakes := payload.Read(text)
	if len(mistakes) > 0 && len(list) > 0 {
		t.Fatalf("%v\n%s", mistakes, text)
	}
	return list
}

// Wherever the writing of an archive is interrupted, the next start fixes it: all
// whole entries are kept, and it goes on.
func TestRepairedAfterACut(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.har")
	a, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	list, _ := payload.Read([]byte("GET /x HTTP/1.1\n\n"))
	ends := []int64{a.end}
	for range 3 {
		if err := a.Append(list[0].AppendHAR(nil, "http://h", 0, 0, "")); err != nil {
			t.Fatal(err)
		}
		ends = append(ends, a.end)
		if got := read(t, path); len(got) != len(ends)-1 {
			t.Fatalf("%d entries after %d", len(got), len(ends)-1)
		}
	}
	_ = a.Close()
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for cut := range len(whole) + 1 {
		path := filepath.Join(dir, "b.har")
		if err := os.WriteFile(path, whole[:cut], 0o644); err != nil {
			t.Fatal(err)
		}
		want := 0
		for _, end := range ends[1:] {
			if int64(cut) >= end {
				want++
			}
		}
		b, err := Open(path)
		if err != nil {
			t.Fatalf("cut at %d: %v", cut, err)
		}
		if b.Entries != want {
			t.Fatalf("cut at %d: %d entries, want %d", cut, b.Entries, want)
		}
		if err := b.Append(list[0].AppendHAR(nil, "http://h", 0, 0, "")); err != nil {
			t.Fatal(err)
		}
		_ = b.Close()
		if got := read(t, path); len(got) != want+1 {
			t.Fatalf("cut at %d: %d entries after one more", cut, len(got))
		}
	}
	empty, err := Open(filepath.Join(dir, "empty.har"))
	if err != nil || empty.Close() != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "empty.har")); err == nil {
		t.Error("a recording of nothing is left")
	}
	if err := os.WriteFile(path, []byte(`{"mine":true}`), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "left as it is") {
		t.Errorf("a file of someone else's: %v", err)
	}
}

// The proxy passes on what comes, streams what is long, records both sides with
// secrets redacted, and passes other protocols on unrecorded.
func TestProxy(t *testing.T) {
	release := make(chan struct{})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/stream":
			fmt.Fprint(w, "first ")
			w.(http.Flusher).Flush()
			<-release
			fmt.Fprint(w, "last")
		case "/up":
			conn, in, _ := w.(http.Hijacker).Hijack()
			fmt.Fprint(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
			b := make([]byte, 4)
			_, _ = io.ReadFull(in, b)
			_, _ = conn.Write(bytes.ToUpper(b))
			_ = conn.Close()
		default:
			w.Header().Set("Set-Cookie", "sid=top-secret; Path=/")
			w.WriteHeader(418)
			fmt.Fprintf(w, "%s %s %d", r.Method, r.URL.Path, len(body))
		}
	}))
	defer service.Close()
	path := filepath.Join(t.TempDir(), "r.har")
	a, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	passed := make(chan string, 100)
	p := &Proxy{Passed: func(line string) { passed <- line }}
	p.Archive, p.Redact = a, &payload.Redactor{Key: []byte("k"), Set: "r"}
	if err := p.Start("127.0.0.1:0", service.URL); err != nil {
		t.Fatal(err)
	}
	base := "http://" + p.Address
	r, err := http.Post(base+"/a?token=top-secret", "application/octet-stream",
		bytes.NewReader(bytes.Repeat([]byte{0xff}, Kept+5)))
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(r.Body)
	_ = r.Body.Close()
	if want := fmt.Sprintf("POST /a %d", Kept+5); string(body) != want || r.StatusCode != 418 ||
		r.Header.Get("Set-Cookie") != "sid=top-secret; Path=/" {
		t.Errorf("%d %q %v", r.StatusCode, body, r.Header)
	}
	<-passed
	r, err = http.Get(base + "/stream")
	if err != nil {
		t.Fatal(err)
	}
	first := make([]byte, 6)
	if _, err := io.ReadFull(r.Body, first); err != nil || string(first) != "first " {
		t.Fatalf("%q %v", first, err)
	}
	close(release) // what follows came only after the beginning had passed
	rest, _ := io.ReadAll(r.Body)
	_ = r.Body.Close()
	if string(rest) != "last" {
		t.Errorf("%q", rest)
	}
	<-passed
	conn, err := net.Dial("tcp", p.Address)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = fmt.Fprint(conn, "GET /up HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	in := bufio.NewReader(conn)
	switched, err := http.ReadResponse(in, nil)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = fmt.Fprint(conn, "ping")
	answer := make([]byte, 4)
	_, err = io.ReadFull(in, answer)
	_ = conn.Close()
	if string(answer) != "PING" || switched.StatusCode != 101 || err != nil {
		t.Errorf("another protocol: %d %q %v", switched.StatusCode, answer, err)
	}
	if line := <-passed; !strings.Contains(line, "not recorded") || p.Skipped.Load() != 1 {
		t.Errorf("%q, %d", line, p.Skipped.Load())
	}
	service.CloseClientConnections()
	service.Close()
	if r, err = http.Get(base + "/gone"); err != nil || r.StatusCode != http.StatusBadGateway {
		t.Errorf("a service that is gone: %v %v", r, err)
	}
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	p.Close(ctx)
	list := read(t, path)
	if len(list) != 2 {
		t.Fatalf("%d exchanges", len(list))
	}
	if x := list[0]; strings.Contains(x.Request.Target, "top-secret") || len(x.Request.Body) != Kept ||
		x.Reply.Status != 418 || strings.Contains(fmt.Sprint(x.Reply.Header), "top-secret") {
		t.Errorf("recorded %s, %d bytes, %d %v", x.Request.Target, len(x.Request.Body), x.Reply.Status, x.Reply.Header)
	}
	if string(list[1].Reply.Body) != "first last" {
		t.Errorf("the stream is recorded as %q", list[1].Reply.Body)
	}
	if err := new(Proxy).Start("127.0.0.1:0", "nowhere"); err == nil {
		t.Error("a URL that is none is taken")
	}
	l, _ := net.Listen("tcp", "127.0.0.1:0")
	l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	for at, to := range map[string]string{"127.0.0.1:": "http://localhost:", ":": "http://127.0.0.1:",
		"localhost:": "http://0.0.0.0:"} {
		p := new(Proxy)
		if err := p.Start(at+port, to+port); err == nil || !strings.Contains(err.Error(), "listens itself") {
			t.Errorf("at %s to %s: %v", at, to, err)
		}
	}
}

// Many at once are all recorded, each whole, while the archive can be read at any
// time.
func TestManyAtOnce(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(w, r.Body)
	}))
	defer service.Close()
	path := filepath.Join(t.TempDir(), "m.har")
	a, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	p := &Proxy{}
	p.Archive, p.Redact = a, &payload.Redactor{Key: []byte("k"), Set: "m"}
	if err := p.Start("127.0.0.1:0", service.URL); err != nil {
		t.Fatal(err)
	}
	const callers, each = 8, 25
	var wait sync.WaitGroup
	for c := range callers {
		wait.Go(func() {
			for n := range each {
				r, err := http.Post("http://"+p.Address+"/", "text/plain",
					strings.NewReader(fmt.Sprintf("%d-%d", c, n)))
				if err != nil {
					t.Error(err)
					return
				}
				_, _ = io.Copy(io.Discard, r.Body)
				_ = r.Body.Close()
			}
		})
	}
	for a.Count() < callers*each/2 {
		func() {
			a.mu.Lock() // a file may be read while it is half written, but never lies half written
			defer a.mu.Unlock()
			read(t, path) // fails where it is not whole
		}()
	}
	wait.Wait()
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	p.Close(ctx)
	seen := map[string]bool{}
	for _, x := range read(t, path) {
		if string(x.Request.Body) != string(x.Reply.Body) {
			t.Errorf("%q was answered %q", x.Request.Body, x.Reply.Body)
		}
		seen[string(x.Request.Body)] = true
	}
	if len(seen) != callers*each {
		t.Errorf("%d of %d are recorded", len(seen), callers*each)
	}
}
