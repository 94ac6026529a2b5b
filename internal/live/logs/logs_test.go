package logs

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

var start = time.Date(2026, 11, 20, 18, 0, 0, 0, time.UTC)

func at(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }

func all(*Entry) bool { return true }

func texts(list []Entry) string {
	var out []string
	for _, e := range list {
		out = append(out, e.Text)
	}
	return strings.Join(out, " ")
}

// Lines are found by their instance and time, and by what they hold.
func TestFinding(t *testing.T) {
	l := New("")
	for i := range 10 {
		l.Add(at(10*i), "f", fmt.Sprint("f-", i%2), Line, fmt.Sprint("n", i))
	}
	l.Add(at(45), "f", "f-1", Stopped, "gone")
	if got := texts(l.Between("f-1", at(30), at(75), 10)); got != "n3 n5 n7" {
		t.Errorf("between: %s", got)
	}
	if got := texts(l.Between("f-1", at(30), at(75), 2)); got != "n3 n5" {
		t.Errorf("the first two: %s", got)
	}
	if got := texts(l.Up(^uint64(0), 3, all)); got != "n8 n9 gone" {
		t.Errorf("the last three: %s", got)
	}
	if got := texts(l.Up(5, 2, func(e *Entry) bool { return e.Instance == "f-0" })); got != "n2 n4" {
		t.Errorf("up to the fifth: %s", got)
	}
	if l.Last() != 11 {
		t.Errorf("the last is %d", l.Last())
	}
}

// A flood costs the oldest lines their place, by number and by size, and no more
// memory than that.
func TestItIsBounded(t *testing.T) {
	l := New("")
	for i := range 3 * keptEntries {
		l.Add(at(i), "f", "f-1", Line, fmt.Sprint(i))
	}
	got := l.Up(^uint64(0), 10*keptEntries, all)
	if len(got) > keptEntries || len(got) < keptEntries-1 || got[len(got)-1].Text != fmt.Sprint(3*keptEntries-1) ||
		got[0].N != got[len(got)-1].N-uint64(len(got)-1) {
		t.Errorf("%d are kept, from %d to %d", len(got), got[0].N, got[len(got)-1].N)
	}
	long := strings.Repeat("z", 4096)
	for range 3 * keptBytes / len(long) {
		l.Add(at(0), "f", "f-1", Line, long)
	}
	bytes := 0
	for _, e := range l.Up(^uint64(0), 10*keptEntries, all) {
		bytes += len(e.Text)
	}
	if bytes > keptBytes || bytes < keptBytes-2*len(long) || bytes != l.bytes {
		t.Errorf("%d bytes are kept, counted as %d; the bound is %d", bytes, l.bytes, keptBytes)
	}
	// one line that is larger than all that is kept does no harm
	l.Add(at(0), "f", "f-1", Line, strings.Repeat("y", keptBytes+1))
	l.Add(at(1), "f", "f-1", Line, "after")
	if got := texts(l.Up(^uint64(0), 1, all)); got != "after" {
		t.Errorf("the last is %.20s", got)
	}
}

// The file has every line; when it has grown large, the former one is kept beside
// the new one.
func TestTheFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "functions.log")
	if err := os.WriteFile(path, []byte("of another time\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	l := New(path)
	l.Add(at(1), "f", "f-1", Line, "first")
	l.Close()
	l.Add(at(2), "f", "f-1", Line, "after the end")
	text, _ := os.ReadFile(path)
	former, _ := os.ReadFile(path + ".1")
	if string(text) != "18:00:00.001000 f-1 first\n" || string(former) != "of another time\n" {
		t.Errorf("the file has %q, the former one %q", text, former)
	}
	l = New(path)
	line := strings.Repeat("z", 100_000)
	for range fileLimit/len(line) + 2 {
		l.Add(at(3), "f", "f-1", Line, line)
	}
	l.Close()
	info, err := os.Stat(path)
	if err != nil || info.Size() > fileLimit || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	// where nothing can be written, it is done without
	l = New(filepath.Join(t.TempDir(), "no", "folder", "x.log"))
	l.Add(at(1), "f", "f-1", Line, "kept")
	if got := texts(l.Up(1, 1, all)); got != "kept" {
		t.Errorf("without a file: %q", got)
	}
}

func TestManyAtOnce(t *testing.T) {
	l := New(filepath.Join(t.TempDir(), "x.log"))
	var writers sync.WaitGroup
	for w := range 8 {
		writers.Go(func() {
			for i := range 500 {
				l.Add(at(i), "f", fmt.Sprint("f-", w), Line, fmt.Sprint(i))
				l.Up(l.Last(), 5, all)
			}
		})
	}
	writers.Wait()
	for w := range 8 {
		if got := l.Between(fmt.Sprint("f-", w), at(0), at(1000), 1000); len(got) != 500 || got[499].Text != "499" {
			t.Errorf("of writer %d there are %d", w, len(got))
		}
	}
	l.Close()
}

func BenchmarkAdd(b *testing.B) {
	l := New(filepath.Join(b.TempDir(), "x.log"))
	defer l.Close()
	for b.Loop() {
		l.Add(start, "f", "f-1", Line, "the tide comes in, and the tide goes out again")
	}
}
