package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/ingest"
)

func layOut(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// What comes to the front is recorded with its reply, without its secrets, and is a
// set of the project afterwards; a second recording of the name goes on.
func TestTheFrontIsRecorded(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(202)
		_, _ = io.Copy(w, r.Body)
	}))
	defer server.Close()
	dir := layOut(t, map[string]string{project.File: "nightdrill: 1\nfunctions:\n  f: {transport: attach, url: \"" +
		server.URL + "\"}\nsources:\n  web: {kind: http, wires: [{to: f}]}\n"})
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	send := func() {
		t.Helper()
		q, _ := http.NewRequest("POST", "http://"+s.Front.Address+"/a?key=hush-hush", strings.NewReader("hello"))
		q.Header.Set("Authorization", "Bearer hush-hush")
		r, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		_ = r.Body.Close()
	}
	send() // not recorded
	for round := 1; round <= 2; round++ {
		if err := s.Record("evening"); err != nil {
			t.Fatal(err)
		}
		if err := s.Record("other"); err == nil || !strings.Contains(err.Error(), "evening is already being recorded") {
			t.Errorf("a second recording at once: %v", err)
		}
		send()
		if name, n := s.RecordingNow(); name != "evening" || n != round {
			t.Errorf("recording %q, %d", name, n)
		}
		said, err := s.StopRecording()
		if err != nil || !strings.Contains(said, "recorded as evening") ||
			!strings.Contains(said, "secrets redacted in 2 places") {
			t.Errorf("%q, %v", said, err)
		}
		until(t, "the set is known", func() bool { return len(s.Plan().Sets) == 1 })
	}
	l, err := project.Load(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	set, _, err := l.InSet("evening")
	if err != nil || set == nil || len(set.Payloads) != 2 {
		t.Fatalf("%+v, %v", set, err)
	}
	for _, p := range set.Payloads { // also what was sent while the project was read again
		if string(p.Request.Body) != "hello" || p.Time.IsZero() || p.Reply.Status != 202 ||
			string(p.Reply.Body) != "hello" {
			t.Errorf("recorded is %+v, %+v", p.Request, p.Reply)
		}
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "payloads", "evening.har")); strings.Contains(string(text),
		"hush-hush") {
		t.Error("a secret is in the recording")
	}
	if err := s.Record("a/b"); err == nil {
		t.Error("a name that leads elsewhere is taken")
	}
	if got := s.Sent("web", &set.Payloads[0]); len(got) != 1 || got[0].Function != "f" || got[0].Form != "as it is" ||
		got[0].Method != "POST" {
		t.Errorf("delivered is %+v", got)
	}
}

// An import that is interrupted, or that finds a broken record, leaves nothing.
func TestAnImportLeavesNothing(t *testing.T) {
	dir := layOut(t, map[string]string{project.File: "nightdrill: 1\n", "a.ndjson": strings.Repeat(`{"x":1}`+"\n",
		5000) + "{\n"})
	left := func() []string {
		found, _ := filepath.Glob(filepath.Join(dir, "payloads", "*"))
		hidden, _ := filepath.Glob(filepath.Join(dir, "payloads", ".import*"))
		return append(found, hidden...)
	}
	i := ingest.Import{From: filepath.Join(dir, "a.ndjson"), Name: "a", Form: payload.Form{Kind: "json"}}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := i.Import(ctx, dir); !errors.Is(err, context.Canceled) || len(left()) > 0 {
		t.Errorf("interrupted: %v, %v", err, left())
	}
	var m project.Mistakes
	if _, err := i.Import(context.Background(), dir); !errors.As(err, &m) || len(m) != 1 || m[0].Line != 5001 ||
		len(left()) > 0 {
		t.Errorf("with a broken record: %v, %v", err, left())
	}
	i.Skip = true
	out, err := i.Import(context.Background(), dir)
	if err != nil || out.Count != 5000 || !out.Added || len(out.Broken) != 1 {
		t.Errorf("%+v, %v", out, err)
	}
	if info, err := os.Stat(filepath.Join(dir, project.StateDir, "redaction.key")); err != nil ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("the project's secret: %v, %v", info, err)
	}
	if ignore, _ := os.ReadFile(filepath.Join(dir, project.StateDir, ".gitignore")); string(ignore) != "*\n" {
		t.Errorf("the secret may be committed: %q", ignore)
	}
	if _, err := i.Import(context.Background(), t.TempDir()); !errors.Is(err, project.ErrNoProject) {
		t.Errorf("where no project is: %v", err)
	}
}

// Nothing that is asked of a session meanwhile reads what changes when the project is read again: the race detector
// would say so.
func TestAskedWhileTheProjectIsReadAgain(t *testing.T) {
	text := "nightdrill: 1\nfunctions:\n  f: {start: [sleep, \"9\"]}\n" +
		"sources:\n  up: {kind: storage, bucket: b, wires: [{to: f}]}\n"
	s, dir := lay(t, text)
	var over atomic.Bool
	var all sync.WaitGroup
	for _, ask := range []func(){
		func() { _ = s.Record("x"); s.RecordingNow() },
		func() {
			s.States()
			s.Trouble()
			_ = s.Wrong()
			s.Plan()
			s.Unmatched()
			s.Recent(3)
		},
		func() { s.List(); s.FreeName("up", "x"); s.FreeFile("x", ".json"); s.Variants("up") },
		func() { s.BrokerFeeds(); s.Neighbours(); _ = s.UpstreamTrouble(); s.Checks(); s.Publishing() },
		func() { _, _ = s.Upload("up", filepath.Join(dir, project.File), "k") },
	} {
		all.Go(func() {
			for !over.Load() {
				ask()
				runtime.Gosched()
			}
		})
	}
	for n := range 10 {
		write(t, dir, project.File, fmt.Sprintf("%s# %d\n", text, n))
		s.touch(filepath.Join(dir, project.File))
		s.bringAll()
	}
	over.Store(true)
	all.Wait()
}
