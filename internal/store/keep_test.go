package store

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/live/hold"
)

// kept puts a finished run into a store, in several blocks.
func kept(t *testing.T, s *Store, id string, began time.Time) *record.Run {
	t.Helper()
	whole := random(400, id)
	for i := range whole.Invocations { // as the engine numbers them
		whole.Invocations[i].Instance = int32(i % len(whole.Instances))
	}
	part := *whole
	part.Arrivals, part.Invocations, part.Attempts, part.Deliveries, part.Levels = whole.Arrivals[:200],
		whole.Invocations[:200], whole.Attempts[:200], whole.Deliveries[:200], whole.Levels[:200]
	w, err := s.Begin(&part, began)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Append(&part); err != nil {
		t.Fatal(err)
	}
	whole.Finished, whole.Length = true, clock.Time(2*time.Second)
	if err := w.Finish(whole, report.NewPage(whole)); err != nil {
		t.Fatal(err)
	}
	return whole
}

func TestRunsAreNamedNotedPinnedAndDeleted(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	long := time.Now().Add(-48 * time.Hour)
	for i, id := range []string{"20260101-000000-aa", "20260102-000000-bb", "20260103-000000-cc",
		"20260104-000000-dd"} {
		kept(t, s, id, long.Add(time.Duration(i)*time.Hour))
	}
	for _, err := range []error{s.Name("20260102-000000-bb", "before the change"), s.Note("20260102-000000-bb",
		"slow disk"), s.Pin("20260101-000000-aa", true)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if i, err := s.Find("before the change"); err != nil || i.ID != "20260102-000000-bb" || i.Note != "slow disk" ||
		i.Label(time.Now()) != "before the change" || i.Headline == nil || i.Headline.Arrived != 400 || i.Bytes == 0 {
		t.Errorf("found by its name: %+v, %v", i, err)
	}
	if err := s.Name("20990101-000000-zz", "x"); err == nil || !strings.Contains(err.Error(), "no run") {
		t.Errorf("a run that is not there: %v", err)
	}
	all, _ := s.List()
	now := time.Now()
	for text, c := range map[string]struct {
		rule plan.Keeping
		want string
	}{
		"no rule": {plan.Keeping{}, ""},
		"number":  {plan.Keeping{Runs: 1}, "cc"}, // aa is pinned, bb has a name
		"age":     {plan.Keeping{For: 46*time.Hour - 30*time.Minute}, "cc"},
		"size":    {plan.Keeping{Bytes: all[0].Bytes + 1}, "cc"},
		"younger": {plan.Keeping{For: time.Hour}, "dd cc"},
	} {
		got := ""
		for _, i := range Surplus(all, c.rule, now) {
			got += i.ID[16:] + " "
		}
		if strings.TrimSpace(got) != c.want {
			t.Errorf("%s: %q would go, want %q", text, got, c.want)
		}
	}
	if gone, err := s.Trim(plan.Keeping{Runs: 1}); err != nil || len(gone) != 1 {
		t.Errorf("trimmed %v, %v", gone, err)
	}
	if all, _ := s.List(); len(all) != 3 {
		t.Errorf("%d runs are left", len(all))
	}
	// one that another program may be writing is not deleted
	if _, err := s.Begin(random(0, "20260105-000000-ee"), time.Now()); err != nil {
		t.Fatal(err)
	}
	i, _ := s.Find("20260105")
	if err := s.Delete(i); err == nil || !strings.Contains(err.Error(), "still in progress") {
		t.Errorf("a run under way: %v", err)
	}
}

// Where a block cannot be read, what was recorded before it is whole, and the run
// A run without a name is called by its drill and when it began, as far as that is needed.
func TestWhatARunIsCalled(t *testing.T) {
	now := time.Date(2026, 11, 29, 0, 30, 0, 0, time.Local)
	for _, c := range []struct {
		began time.Time
		want  string
	}{
		{now.Add(-10 * time.Minute), "evening 00:20:00"},
		{now.Add(-time.Hour), "evening 28 Nov 23:30"},
		{now.AddDate(-1, 0, 0), "evening 29 Nov 2025 00:30"},
	} {
		i := Info{Drill: "evening", Began: c.began.UTC()}
		if got := i.Label(now); got != c.want {
			t.Errorf("a run of %v is called %q, want %q", c.began, got, c.want)
		}
	}
}

// A run that is put aside is off the list; it comes back, or goes for good when the store is closed.
func TestRunsThatArePutAside(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"20260101-000000-aa", "20260101-000001-bb"} {
		w, err := s.Begin(random(3, id), time.Now())
		if err == nil {
			r := random(3, id)
			r.Finished = true
			err = w.Finish(r, report.NewPage(r))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	listed := func() (names []string) {
		all, err := s.List()
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range all {
			names = append(names, i.ID[len(i.ID)-2:])
		}
		return names
	}
	aside := func(id string) {
		info, err := s.Find(id)
		if err == nil {
			err = s.PutAside(info)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	aside("20260101-000000-aa")
	aside("20260101-000001-bb")
	if got := listed(); len(got) != 0 {
		t.Errorf("listed although put aside: %v", got)
	}
	if i, ok := s.BringBack(); !ok || i.ID != "20260101-000001-bb" || !slices.Equal(listed(), []string{"bb"}) {
		t.Errorf("brought back %v, listed %v", i.ID, listed())
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if got := listed(); !slices.Equal(got, []string{"bb"}) {
		t.Errorf("after it was closed: %v", got)
	}
	if _, ok := s.BringBack(); ok {
		t.Error("a run that is gone comes back")
	}
}

// says what is missing.
func TestADamagedBlockCostsWhatComesAfterIt(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	run := kept(t, s, "20260101-000000-aa", time.Now())
	if _, err := s.db.Exec("UPDATE blocks SET data = substr(data, 1, length(data) / 2) WHERE kind = 'attempts' AND " +
		"seq = 1"); err != nil {
		t.Fatal(err)
	}
	got, err := s.Load(run.ID)
	if err != nil || len(got.Arrivals) != 200 || len(got.Attempts) != 200 || len(got.Deliveries) != 200 ||
		got.Finished {
		t.Fatalf("%v, %d arrivals, %d attempts, finished %v", err, len(got.Arrivals), len(got.Attempts), got.Finished)
	}
	if text := strings.Join(report.NewPage(got).Summary.Warnings, "\n"); !strings.Contains(text,
		"is damaged and was skipped") {
		t.Errorf("the findings do not say so: %s", text)
	}
}

// A file with overwritten pages is reported with a way out, what can be read of it is
// saved, and the file itself is there as it was.
func TestADamagedFileIsRescued(t *testing.T) {
	for _, share := range []int{4, 2} { // a quarter of the file from there on, and the half
		t.Run(fmt.Sprint("1/", share), func(t *testing.T) {
			dir := t.TempDir()
			s, _ := Open(dir)
			for i := range 12 {
				kept(t, s, fmt.Sprintf("20260101-0000%02d-aa", i), time.Unix(int64(i), 0))
			}
			s.Close()
			text, _ := os.ReadFile(Path(dir))
			from := len(text) / share
			copy(text[from:], bytes.Repeat([]byte("nothing that was written here "), len(text)/100)[:len(text)/8])
			os.WriteFile(Path(dir), text, 0o644)
			got, err := Rescue(dir, time.Unix(0, 0))
			if err != nil || got.Runs < 6 || got.Whole > got.Runs || got.Whole == 12 || got.Runs+len(got.Lost) > 12 {
				t.Fatalf("%+v, %v", got, err)
			}
			if now, _ := os.ReadFile(got.Damaged); !bytes.Equal(now, text) {
				t.Error("the damaged file was changed")
			}
			if s, err = Open(dir); err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			all, err := s.List()
			if err != nil || len(all) != got.Runs {
				t.Fatalf("%d runs, %v", len(all), err)
			}
			for _, i := range all {
				if _, err := s.Page(i.ID); err != nil {
					t.Errorf("run %s: %v", i.ID, err)
				}
			}
		})
	}
	// a run whose own row is gone, of which blocks are left, is named
	dir := t.TempDir()
	s, _ := Open(dir)
	kept(t, s, "20260101-000000-aa", time.Unix(0, 0))
	kept(t, s, "20260101-000001-bb", time.Unix(1, 0))
	if _, err := s.db.Exec("PRAGMA foreign_keys = OFF; DELETE FROM runs WHERE id LIKE '%bb'"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if got, err := Rescue(dir, time.Unix(0, 0)); err != nil || got.Runs != 1 || len(got.Lost) != 1 ||
		got.Lost[0] != "20260101-000001-bb" {
		t.Errorf("%+v, %v", got, err)
	}
	dir = t.TempDir()
	os.Mkdir(dir+"/.nightdrill", 0o755)
	os.WriteFile(Path(dir), bytes.Repeat([]byte("no store at all "), 99), 0o644)
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "nightdrill runs rescue") {
		t.Errorf("the error names no way out: %v", err)
	}
	if got, err := Rescue(dir, time.Unix(0, 0)); err != nil || got.Runs != 0 {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := Open(dir); err != nil {
		t.Errorf("after the rescue: %v", err)
	}
}

// When the disk is full in the middle of a run, what was kept until then stays, the
// writer says so, and goes on where it stopped once there is room.
func TestADiskThatIsFull(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	run := random(20_000, "20260101-000000-aa")
	part := *run
	part.Arrivals, part.Invocations, part.Attempts, part.Deliveries, part.Levels = run.Arrivals[:500],
		run.Invocations[:500], run.Attempts[:500], run.Deliveries[:500], nil
	w, err := s.Begin(&part, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Append(&part); err != nil {
		t.Fatal(err)
	}
	var pages int
	_ = s.db.QueryRow("PRAGMA page_count").Scan(&pages)
	limit := func(n int) {
		if _, err := s.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", n)); err != nil {
			t.Fatal(err)
		}
	}
	limit(pages)
	if err := w.Append(run); err == nil || !strings.Contains(err.Error(), "full") {
		t.Fatalf("a full disk: %v", err)
	}
	if got, err := s.Load(run.ID); err != nil || len(got.Arrivals) != 500 || len(got.Deliveries) != 500 {
		t.Fatalf("what was kept before: %d arrivals, %v", len(got.Arrivals), err)
	}
	limit(pages + 10_000)
	run.Finished = true
	if err := w.Finish(run, report.NewPage(run)); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Load(run.ID); err != nil || len(got.Arrivals) != 20_000 || !got.Finished {
		t.Errorf("once there is room: %v", err)
	}
}

// Two programs on one project do not disturb each other: each writes runs, lists, names
// and deletes while the other does, and all that was not deleted is there and whole.
func TestTwoProgramsOnOneProject(t *testing.T) {
	dir := t.TempDir()
	const each = 8
	errs := make(chan error, 2)
	for _, who := range []string{"a", "b"} {
		go func() {
			errs <- func() error {
				s, err := Open(dir)
				if err != nil {
					return err
				}
				defer s.Close()
				for i := range each {
					run := random(300, fmt.Sprintf("20260101-0000%02d-%s", i, who))
					w, err := s.Begin(run, time.Unix(int64(i), 0))
					if err != nil {
						return err
					}
					for n := 100; n <= 300; n += 100 {
						part := *run
						part.Arrivals, part.Invocations, part.Attempts, part.Deliveries, part.Levels = run.Arrivals[:n],
							run.Invocations[:n], run.Attempts[:n], run.Deliveries[:n], run.Levels[:n]
						if err := w.Append(&part); err != nil {
							return err
						}
						if _, err := s.List(); err != nil {
							return err
						}
					}
					run.Finished = true
					if err := w.Finish(run, report.NewPage(run)); err != nil {
						return err
					}
					if i%2 == 1 {
						info, err := s.Find(run.ID)
						if err == nil {
							err = s.Delete(info)
						}
						if err != nil {
							return err
						}
					} else if err := s.Name(run.ID, "kept by "+who+fmt.Sprint(i)); err != nil {
						return err
					}
				}
				return nil
			}()
		}()
	}
	for range 2 {
		if err := <-errs; err != nil {
			t.Fatal(err)
		}
	}
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	all, err := s.List()
	if err != nil || len(all) != each {
		t.Fatalf("%d runs are left, want %d; %v", len(all), each, err)
	}
	for _, i := range all {
		r, err := s.Load(i.ID)
		if err != nil || !r.Finished || len(r.Arrivals) != 300 || len(r.Instances) != 41 ||
			!strings.HasPrefix(i.Name, "kept by ") {
			t.Errorf("%s: %v, finished %v, %d arrivals, %d instances, named %q", i.ID, err, r.Finished, len(r.Arrivals),
				len(r.Instances), i.Name)
		}
	}
}

// A store that is whole, newer, or open elsewhere is not rescued, and says what it is.
func TestOnlyWhatIsDamagedIsRescued(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	kept(t, s, "20260101-000000-aa", time.Unix(0, 0))
	refused := func(want string, of error) {
		t.Helper()
		before, _ := os.ReadFile(Path(dir))
		got, err := Rescue(dir, time.Unix(0, 0))
		after, _ := os.ReadFile(Path(dir))
		if err == nil || !strings.Contains(err.Error(), want) || of != nil && !errors.Is(err, of) || got.Runs > 0 ||
			!bytes.Equal(before, after) {
			t.Errorf("%+v, %v; want %q", got, err, want)
		}
	}
	refused("is in use by another program; close every Night Drill", ErrBusy)
	s.Close()
	refused("is not damaged; there is nothing to rescue", nil)
	// a program that does not say so writes to it
	other := &Store{path: Path(dir)}
	if err := other.connect(); err != nil {
		t.Fatal(err)
	}
	defer other.db.Close()
	if _, err := other.db.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	refused("nothing was recovered: "+Path(dir)+" is in use by another program, for longer than 5 s", ErrBusy)
	if _, err := other.db.Exec("ROLLBACK; PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	refused("was written by a newer Night Drill (file version 99", ErrNewer)
	if left, _ := filepath.Glob(filepath.Join(dir, stateDir, "*damaged*")); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
}

// While a store is rescued no one opens it.
func TestNobodyOpensWhatIsRescued(t *testing.T) {
	dir := t.TempDir()
	if s, err := Open(dir); err != nil {
		t.Fatal(err)
	} else {
		s.Close()
	}
	lock, err := hold.Take(lockOf(dir))
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Release()
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "is being recovered") {
		t.Errorf("opened meanwhile: %v", err)
	}
}

// A block with changed bytes, of a failing disk or from elsewhere, is noticed or read as what it
// says; nothing that the findings are made of refers to what is not there.
func TestBytesThatChanged(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	run := kept(t, s, "20260101-000000-aa", time.Now())
	blocks, _, err := s.blocks(run.ID)
	if err != nil {
		t.Fatal(err)
	}
	r := rng.New(3, 1)
	for range 200 {
		changed := map[string][]block{}
		for kind, all := range blocks {
			changed[kind] = slices.Clone(all)
		}
		for range 1 + r.Below(3) {
			kind := []string{"arrivals", "invocations", "attempts", "deliveries", "levels", "instances"}[r.Below(6)]
			b := &changed[kind][r.Below(len(changed[kind]))]
			b.data = slices.Clone(b.data)
			b.data[r.Below(len(b.data))] ^= 1 << r.Below(8)
		}
		got := *run
		got.Arrivals, got.Invocations, got.Attempts, got.Deliveries = nil, nil, nil, nil
		got.Levels, got.Instances = nil, nil
		cut := fill(&got, changed, math.MaxInt)
		if len(got.Arrivals) < 400 && cut == "" || len(got.Arrivals)%200 != 0 {
			t.Fatalf("%d arrivals, cut %q", len(got.Arrivals), cut)
		}
		report.NewPage(&got)
		report.NewPage(got.Filter(record.Filter{Class: "warm", Longer: time.Millisecond}))
		got.Points(record.Filter{Class: "retried"}, 10)
	}
}

// A run that is filtered as it is read gives what the whole run gives; one that is damaged, what is left of it.
func TestAFilterOnWhatIsNotInMemory(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	run := kept(t, s, "20260101-000000-aa", time.Now())
	filters := []string{"", "class=warm", "class=cold longer=1ms", "status=2xx", "outcome=done longer=1s", "nth=1-3",
		"start=1ns-1s", "route=GET+/", "from=1s to=200s", "class=retried"}
	selected := 0
	for damaged := range 2 {
		for _, text := range filters {
			f, err := record.ParseFilter(text)
			if err != nil {
				t.Fatal(err)
			}
			whole, err := s.Load(run.ID)
			if err != nil {
				t.Fatal(err)
			}
			want := whole.Filter(f)
			selected += min(len(want.Deliveries), 10)
			if head, err := s.head(run.ID); damaged == 0 {
				if _, no := s.sift(head, f); err != nil || no != nil {
					t.Errorf("%q: read as a whole: %v, %v", text, err, no)
				}
			}
			got, err := s.Filter(run.ID, f)
			if err != nil || !reflect.DeepEqual(got, want) {
				t.Errorf("damaged %d, %q: %v, %d invocations of %d, %d deliveries of %d", damaged, text, err,
					len(got.Invocations), len(want.Invocations), len(got.Deliveries), len(want.Deliveries))
			}
		}
		if _, err := s.db.Exec("UPDATE blocks SET data = substr(data, 1, length(data) / 2) WHERE kind = 'deliveries'" +
			" AND seq = 1"); err != nil {
			t.Fatal(err)
		}
	}
	events := 0
	if err := s.reader(&extent{run: run, events: math.MaxInt32}).Arrivals(nil, func(i int, _ *record.Arrival) {
		if events++; i == 0 { // nothing that is written waits until all is read
			if err := s.Note(run.ID, "meanwhile"); err != nil {
				t.Error(err)
			}
		}
	}); err != nil || events != len(run.Arrivals) {
		t.Errorf("%d events of %d: %v", events, len(run.Arrivals), err)
	}
	if _, err := s.Filter(run.ID, record.Filter{Function: "g"}); err == nil || selected < 100 {
		t.Errorf("a function that the run does not have: %v; %d were selected in all", err, selected)
	}
}

// Bytes that stand for more than fits into the machine are refused; a run that fits is read.
func TestWhatDoesNotFit(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	run := kept(t, s, "20260101-000000-aa", time.Now())
	few := binary.AppendUvarint(nil, usualRecords)
	for seq := range 3000 {
		if _, err := s.db.Exec("INSERT INTO blocks VALUES (?, 'arrivals', ?, ?)", run.ID, 1000+seq, few); err != nil {
			t.Fatal(err)
		}
	}
	s.memory = func() uint64 { return 4 << 30 }
	_, err := s.Load(run.ID)
	if err == nil || !strings.Contains(err.Error(), "says it has 393 million records, which take ") {
		t.Errorf("it is read: %v", err)
	}
	if _, err = s.Filter(run.ID, record.Filter{Class: "warm"}); err == nil {
		t.Error("it is filtered")
	}
	if _, err := s.db.Exec("DELETE FROM blocks WHERE seq >= 1000"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Load(run.ID); err != nil {
		t.Error(err)
	}
}
