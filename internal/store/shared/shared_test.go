package shared

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/store/shared/sharedtest"
)

// kept returns a store with finished runs, and their list. blob is how large an event of each is, in bytes.
func kept(t *testing.T, n, blob int) (*store.Store, []store.Info) {
	t.Helper()
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	for i := range n {
		r := recordtest.Calm().Run()
		r.ID, r.Project, r.Machine, r.Commit, r.Branch = fmt.Sprintf("20260301-0600%02d-ab", i), "ferries", "here",
			"4f2a91c", "main"
		r.Said = map[uint64]string{1: "a log line of Ada"}
		r.Blobs = [][]byte{bytes.Repeat([]byte{byte(i), 7}, blob/2+1)}
		w, err := s.Begin(r, time.Date(2026, 3, 1, 6, 0, i, 0, time.UTC))
		if err == nil {
			err = w.Lines([]record.Line{{Text: "a log line of Ada"}})
		}
		if err == nil {
			err = w.Finish(r, report.NewPage(r))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	all, err := s.List()
	if err != nil {
		t.Fatal(err)
	}
	return s, all
}

func share(s *sharedtest.Server) *plan.Share {
	return &plan.Share{URL: s.URL("ferries", "drills"), PasswordEnv: sharedtest.Variable}
}

func open(t *testing.T, s *plan.Share) *Store {
	t.Helper()
	out, err := Open(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(out.Close)
	return out
}

// A run that was pushed and pulled is the run; bytes and logs go along only where asked.
func TestARunGoesThereAndBack(t *testing.T) {
	server := sharedtest.Serve(t, "")
	from, all := kept(t, 2, 100)
	s := open(t, share(server))
	for i, parts := range []store.Parts{{}, {Payloads: true, Logs: true}} {
		p, err := from.Pack(all[i], parts)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Push(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		if err := s.Push(t.Context(), p); !errors.Is(err, store.ErrThere) {
			t.Errorf("pushed again: %v", err)
		}
	}
	there, err := s.List(t.Context(), "ferries")
	if err != nil || len(there) != 2 || there[0].Branch != "main" || there[0].Headline == nil ||
		!there[0].Began.Equal(all[0].Began) || there[0].Seconds != all[0].Seconds {
		t.Fatalf("%+v, %v", there, err)
	}
	if other, err := s.List(t.Context(), "other"); err != nil || len(other) != 0 {
		t.Errorf("of another project: %v, %v", other, err)
	}
	to, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	for i, with := range []bool{false, true} {
		p, err := s.Pull(t.Context(), there[i])
		if err != nil {
			t.Fatal(err)
		}
		if err := to.Unpack(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		if err := to.Unpack(t.Context(), p); !errors.Is(err, store.ErrThere) {
			t.Errorf("unpacked again: %v", err)
		}
		if err := to.Complete(p.Info.ID); err != nil {
			t.Fatal(err)
		}
		was, _ := from.Load(p.Info.ID)
		is, err := to.Load(p.Info.ID)
		if err != nil || len(is.Invocations) != len(was.Invocations) || is.Invocations[9] != was.Invocations[9] ||
			is.Commit != "4f2a91c" || len(is.Instances) != len(was.Instances) {
			t.Fatalf("%+v, %v", is, err)
		}
		if _, err := to.Blob(is.ID, 1); (err == nil) != with {
			t.Errorf("bytes of run %d: %v, asked for: %v", i, err, with)
		}
		if said := len(is.Said) > 0; said != with {
			t.Errorf("log lines of run %d: %v, asked for: %v", i, said, with)
		}
		page, err := to.Page(is.ID)
		before, _ := from.Page(is.ID)
		if err != nil || strings.Join(page.Sentences(), "") != strings.Join(before.Sentences(), "") {
			t.Errorf("%v %v", page, err)
		}
	}
	gone, err := s.Delete(t.Context(), []string{there[0].ID, "none"})
	if err != nil || len(gone) != 1 {
		t.Errorf("deleted %v, %v", gone, err)
	}
	if _, err := s.Pull(t.Context(), there[0]); err == nil || !strings.Contains(err.Error(), "deleted meanwhile") {
		t.Errorf("%v", err)
	}
}

// Several programs make the tables and push the same runs at once: each run is added once, by one of them.
func TestSeveralWritersAtOnce(t *testing.T) {
	server := sharedtest.Serve(t, "")
	from, all := kept(t, 6, 10_000)
	var mu sync.Mutex
	var wg sync.WaitGroup
	added := map[string]int{}
	for range 5 {
		wg.Go(func() {
			s, err := Open(t.Context(), share(server))
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			for _, i := range all {
				p, err := from.Pack(i, store.Parts{Payloads: true})
				if err == nil {
					err = s.Push(t.Context(), p)
				}
				if err != nil && !errors.Is(err, store.ErrThere) {
					t.Error(err)
				}
				if err == nil {
					mu.Lock()
					added[i.ID]++
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	for _, i := range all {
		if added[i.ID] != 1 {
			t.Errorf("run %s was added %d times", i.ID, added[i.ID])
		}
	}
	if err := server.Exec("drills", "UPDATE nightdrill.version SET number = 99"); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), share(server)); !errors.Is(err, store.ErrNewer) {
		t.Errorf("tables of a newer program: %v", err)
	}
}

// What is wrong with the server has a sentence of its own, without the password, and leaves no half of a run.
func TestServersInTrouble(t *testing.T) {
	server := sharedtest.Serve(t, "")
	from, all := kept(t, 1, 40<<20)
	p, err := from.Pack(all[0], store.Parts{Payloads: true})
	if err != nil {
		t.Fatal(err)
	}
	want := func(what string, err error, words string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), words) || strings.Contains(err.Error(), sharedtest.Secret) {
			t.Errorf("%s: %v, want %q", what, err, words)
		}
	}
	for _, c := range []struct{ what, url, password, words string }{
		{"nothing listens", "postgres://ferries@127.0.0.1:1/drills", sharedtest.Secret, "nothing listens there"},
		{"unknown host", "postgres://ferries@nowhere.invalid/drills", sharedtest.Secret, "the host is not known"},
		{"no database", server.URL("ferries", "none"), sharedtest.Secret, "the database does not exist"},
		{"wrong password", server.URL("ferries", "drills"), "wrong", "the password for user ferries is wrong"},
		{"unknown authority", server.URL("ferries", "drills") + "?sslmode=verify-full", sharedtest.Secret,
			"an authority that is not known here"},
		{"a user without rights", server.URL("deck", "drills"), "deck", "this user may not do that"},
	} {
		if c.what == "a user without rights" {
			if err := server.Exec("drills", "CREATE USER deck PASSWORD 'deck'"); err != nil {
				t.Fatal(err)
			}
		}
		t.Setenv(sharedtest.Variable, c.password)
		_, err := Open(t.Context(), &plan.Share{URL: c.url, PasswordEnv: sharedtest.Variable})
		want(c.what, err, c.words)
	}
	t.Setenv(sharedtest.Variable, "")
	_, err = Open(t.Context(), share(server))
	want("no password", err, sharedtest.Variable+" is not set")
	t.Setenv(sharedtest.Variable, sharedtest.Secret)
	verified := open(t, &plan.Share{PasswordEnv: sharedtest.Variable, URL: server.URL("ferries", "drills") +
		"?sslmode=verify-full&sslrootcert=" + filepath.Join(server.Dir, "ca.pem")})
	verified.Close()

	s := open(t, share(server))
	// the server goes away in the middle of a push: it waits for a lock, half of the run sent
	lock, err := server.Connect("drills")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := lock.Exec(t.Context(), "BEGIN; LOCK TABLE nightdrill.blobs"); err != nil {
		t.Fatal(err)
	}
	pushed := make(chan error, 1)
	go func() { pushed <- s.Push(t.Context(), p) }()
	for waiting := false; !waiting; {
		if len(pushed) > 0 {
			t.Fatalf("it did not wait: %v", <-pushed)
		}
		if err := lock.QueryRow(t.Context(), "SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)").
			Scan(&waiting); err != nil {
			t.Fatal(err)
		}
	}
	server.Kill()
	want("lost in the middle", <-pushed, "nothing of this run was kept")
	server.Start()
	s = open(t, share(server))
	if there, err := s.List(t.Context(), "ferries"); err != nil || len(there) != 0 {
		t.Errorf("of the run that was cut off: %v, %v", there, err)
	}
	// interrupted by the user
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	want("interrupted", open(t, share(server)).Push(ctx, p), "canceled")
	server.Stop()
	server.Start("default_transaction_read_only=on")
	s = open(t, share(server))
	want("read-only", s.Push(t.Context(), p), "the server is read-only")
	server.Stop()
	server.Start("max_connections=4", "superuser_reserved_connections=0")
	for range 4 {
		c, err := server.Connect("drills")
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close(context.Background())
	}
	_, err = Open(t.Context(), share(server))
	want("no connection left", err, "no connection left")
}

// A server whose disk is full keeps nothing of the run, and takes it when there is room.
func TestAFullServer(t *testing.T) {
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("NOT TESTED: a small disk can only be mounted as root on Linux")
	}
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=80m", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("NOT TESTED: no small disk can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	ballast := filepath.Join(dir, "ballast")
	if err := os.WriteFile(ballast, make([]byte, 8<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	server := sharedtest.Serve(t, dir)
	from, all := kept(t, 1, 60<<20)
	p, err := from.Pack(all[0], store.Parts{Payloads: true})
	if err != nil {
		t.Fatal(err)
	}
	random, source := p.Blobs[0].Data, rng.New(1, 1) // does not compress
	for i := range random {
		random[i] = byte(source.Uint64())
	}
	s := open(t, share(server))
	if err := s.Push(t.Context(), p); err == nil || !strings.Contains(err.Error(), "disk is full") {
		t.Fatalf("%v", err)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	p.Blobs[0].Data = random[:100]
	if err := open(t, share(server)).Push(t.Context(), p); err != nil {
		t.Errorf("with room again: %v", err)
	}
}
