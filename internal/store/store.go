// Package store keeps runs in SQLite, in .nightdrill/runs.db of a project.
//
// Open opens the store, Begin a run; Append writes what was recorded since the
// last Append, in one transaction, so that a run that is cut off can be read up
// to there; Finish closes it. List and Load read runs back.
package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"modernc.org/sqlite" // the driver, without cgo
	sqlite3 "modernc.org/sqlite/lib"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/hold"
	"nightdrill.dev/internal/project"
)

// Version is the version of the schema that this program writes.
const Version = 4

// steps are the changes of the schema, each from the version before it.
var steps = [Version]string{`
CREATE TABLE runs (
	id       TEXT PRIMARY KEY,
	drill    TEXT NOT NULL,
	began    TEXT NOT NULL,              -- RFC 3339, UTC
	finished INTEGER NOT NULL DEFAULT 0,
	length   INTEGER NOT NULL DEFAULT 0, -- ns
	head     TEXT NOT NULL               -- JSON: names, seed, budgets, payloads
);
CREATE TABLE blocks (
	run  TEXT NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
	kind TEXT NOT NULL,
	seq  INTEGER NOT NULL,
	data BLOB NOT NULL,
	PRIMARY KEY (run, kind, seq)
) WITHOUT ROWID;
`, `
ALTER TABLE runs ADD COLUMN page TEXT;   -- JSON: the findings, computed when the run ended
CREATE TABLE blobs (                     -- bytes of events and replies, each once
	run    TEXT NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
	number INTEGER NOT NULL,             -- from 1
	data   BLOB NOT NULL,
	PRIMARY KEY (run, number)
) WITHOUT ROWID;
`, `
ALTER TABLE runs ADD COLUMN name TEXT NOT NULL DEFAULT '';     -- given by the user
ALTER TABLE runs ADD COLUMN note TEXT NOT NULL DEFAULT '';     -- written by the user
ALTER TABLE runs ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0; -- kept whatever the rule says
ALTER TABLE runs ADD COLUMN main TEXT;                         -- JSON: the main figures, for the list of runs
ALTER TABLE runs ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;  -- that it takes, about
`, `
ALTER TABLE runs ADD COLUMN project TEXT NOT NULL DEFAULT ''; -- its name
ALTER TABLE runs ADD COLUMN machine TEXT NOT NULL DEFAULT ''; -- described in words
ALTER TABLE runs ADD COLUMN code TEXT NOT NULL DEFAULT '';    -- the commit, and whether it was changed since
ALTER TABLE runs ADD COLUMN branch TEXT NOT NULL DEFAULT '';
UPDATE runs SET project = coalesce(json_extract(head, '$.project'), ''),
	machine = coalesce(json_extract(head, '$.machine'), ''), code = coalesce(json_extract(head, '$.commit'), '')
	WHERE json_valid(head);
`}

// Store is an open store of runs.
type Store struct {
	db     *sql.DB // one connection
	reads  *sql.DB // connections that only read, so that records are read side by side, and hold up no writing
	path   string
	memory func() uint64 // that the records of a run may take
	open   *hold.Lock    // shared with others; a rescue has it alone
	mu     sync.Mutex
	aside  []Info // runs that are deleted when the store is closed, the latest last
}

// Info is a run in the list of runs.
type Info struct {
	ID       string           `json:"run"`
	Drill    string           `json:"drill"`
	Began    time.Time        `json:"began"`
	Length   time.Duration    `json:"-"`
	Seconds  float64          `json:"seconds"`
	Finished bool             `json:"finished"`
	Name     string           `json:"name"`   // given by the user
	Note     string           `json:"note"`   // written by the user
	Pinned   bool             `json:"pinned"` // kept whatever the rule says
	Bytes    int64            `json:"bytes"`  // that it takes, about; 0 where that is not known
	Project  string           `json:"project"`
	Machine  string           `json:"machine"` // described in words
	Commit   string           `json:"commit"`  // of the code, and whether it was changed since; "" if unknown
	Branch   string           `json:"branch"`  // "" if unknown
	Headline *report.Headline `json:"main"`    // nil of a run that was cut off
}

// Label is what a run is called on screens and in sentences: its name, or its drill and when it began,
// with the day where that is not today.
func (i *Info) Label(now time.Time) string {
	if i.Name != "" {
		return i.Name
	}
	return i.Drill + " " + i.When(now)
}

// When returns when a run began, in local time: 15:04:05, of another day 2 Jan 15:04, of another year with
// the year.
func (i *Info) When(now time.Time) string {
	at := i.Began.Local()
	switch now = now.Local(); {
	case at.Format(time.DateOnly) == now.Format(time.DateOnly):
		return at.Format(time.TimeOnly)
	case at.Year() == now.Year():
		return at.Format("2 Jan 15:04")
	}
	return at.Format("2 Jan 2006 15:04")
}

// Path returns the store's file in a project's folder.
func Path(dir string) string { return filepath.Join(dir, stateDir, "runs.db") }

const stateDir = project.StateDir

// Folder returns the folder of a project in which the program keeps what is its own. It
// makes the folder where it is missing, readable by its owner alone, and left out by version
// control.
func Folder(dir string) (string, error) {
	folder := filepath.Join(dir, stateDir)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	ignore := filepath.Join(folder, ".gitignore")
	if _, err := os.Lstat(ignore); !errors.Is(err, fs.ErrNotExist) {
		return folder, nil
	}
	return folder, os.WriteFile(ignore, []byte("*\n"), 0o600)
}

// private makes the file of a project's store so that its owner alone can read it, as runs
// hold what was sent and answered.
func private(dir string) error {
	if _, err := Folder(dir); err != nil {
		return err
	}
	// SQLite creates the files beside this one with the same permissions
	file, err := os.OpenFile(Path(dir), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if info, err := file.Stat(); err == nil && info.Mode().Perm() != 0o600 {
		_ = file.Chmod(0o600) // of another user's, it stays as it is
	}
	return file.Close()
}

// Open opens or makes the store of a project's folder.
func Open(dir string) (*Store, error) {
	path := Path(dir)
	s := &Store{path: path, memory: memory}
	if err := private(dir); err != nil {
		if s.trouble(err) == ErrFull {
			return nil, s.said(err)
		}
		return nil, fmt.Errorf("cannot create the folder for runs: %w", err)
	}
	lock, err := hold.Share(lockOf(dir))
	if errors.Is(err, hold.ErrHeld) {
		return nil, fmt.Errorf("%s is being recovered by another program; try again when that has ended", path)
	}
	if err := s.connect(); err != nil {
		lock.Release()
		return nil, err
	}
	s.open = lock // nil where files cannot be held
	return s, nil
}

// lockOf returns the file that is shared by those who have a project's store open.
func lockOf(dir string) string { return filepath.Join(dir, stateDir, "runs.lock") }

// connect opens the database.
func (s *Store) connect() error {
	path := s.path
	db, err := sql.Open("sqlite", "file:"+uriPath(path)+
		"?_pragma=busy_timeout(5000)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(ON)&_txlock=immediate")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	s.db = db
	if s.reads, err = sql.Open("sqlite", "file:"+uriPath(path)+
		"?_pragma=busy_timeout(5000)&_pragma=query_only(1)"); err != nil {
		_ = db.Close()
		return err
	}
	if err := patiently(s.prepare); err != nil {
		_, _ = s.reads.Close(), db.Close()
		if s.trouble(err) != nil {
			return s.said(err)
		}
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// uriPath writes a path so that SQLite's URI reader takes it whole.
func uriPath(path string) string {
	return strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(filepath.ToSlash(path))
}

// patience is how long another program at the same file is waited for.
const patience = 5 * time.Second

// patiently repeats what fails because another program is at the same file. The
// busy timeout does not cover the change to a write-ahead log.
func patiently(do func() error) error {
	for end := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		err := do()
		var e *sqlite.Error
		if !errors.As(err, &e) || e.Code()&0xff != sqlite3.SQLITE_BUSY || time.Now().After(end) {
			return err
		}
	}
}

// prepare makes sure of the write-ahead log and of the schema.
func (s *Store) prepare() error {
	var mode string
	if err := s.db.QueryRow("PRAGMA journal_mode").Scan(&mode); err != nil {
		return fmt.Errorf("cannot be read as a store of runs: %w", err)
	}
	if mode != "wal" { // the page size of a new file is set before it has any
		if _, err := s.db.Exec("PRAGMA page_size = 16384; PRAGMA auto_vacuum = INCREMENTAL; PRAGMA " +
			"journal_mode = WAL"); err != nil {
			return err
		}
	}
	return s.migrate()
}

func (s *Store) migrate() error {
	var version int
	if err := s.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return fmt.Errorf("cannot be read as a store of runs: %w", err)
	}
	switch {
	case version > Version:
		return fmt.Errorf("%w (file version %d, this program supports %d); use that one, or move the file away",
			ErrNewer,
			version, Version)
	case version == Version:
		return nil
	}
	tx, err := s.db.Begin() // from here on no other program can do the same
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it does nothing
	if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil || version == Version {
		return err
	}
	for _, step := range steps[version:] {
		if _, err := tx.Exec(step); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", Version)); err != nil {
		return err
	}
	return tx.Commit()
}

// Close deletes the runs that were put aside, and closes the store.
func (s *Store) Close() error {
	s.mu.Lock()
	for _, i := range s.aside {
		_ = s.Delete(i) // where it cannot be deleted, it is listed again
	}
	s.aside = nil
	s.mu.Unlock()
	err := errors.Join(s.reads.Close(), s.db.Close())
	s.open.Release()
	return err
}

// head is what is known of a run when it begins, and its notes when it ends.
type head struct {
	Project   string             `json:"project"`
	Seed      uint64             `json:"seed"`
	Functions []record.Function  `json:"functions"`
	Sources   []record.Source    `json:"sources"`
	Budgets   []string           `json:"budgets"`
	Payloads  []record.Payload   `json:"payloads"`
	LastDue   clock.Time         `json:"last_due"`
	Busy      *float64           `json:"busy"`
	Notes     []string           `json:"notes"`
	Twice     bool               `json:"idempotence,omitempty"`
	Changes   []record.Change    `json:"changes,omitempty"`
	All       int                `json:"concurrency,omitempty"`
	Cold      int                `json:"cold_starts,omitempty"`
	Rates     *plan.Rates        `json:"rates,omitempty"`
	Self      *record.SelfCheck  `json:"self,omitempty"`
	Machine   string             `json:"machine,omitempty"`
	Commit    string             `json:"commit,omitempty"`
	Branch    string             `json:"branch,omitempty"`
	Plan      json.RawMessage    `json:"plan,omitempty"`
	Said      map[uint64]string  `json:"said,omitempty"`
	Begins    clock.Time         `json:"begins,omitempty"`
	Marks     []plan.Mark        `json:"marks,omitempty"`
	EarlyOf   int                `json:"early_of,omitempty"`
	StoppedAt int                `json:"stopped_at,omitempty"`
	Upstreams []record.Upstream  `json:"upstreams,omitempty"`
	Labels    []string           `json:"call_labels,omitempty"`
	CallsLost int                `json:"calls_lost,omitempty"`
	Spans     []string           `json:"span_names,omitempty"`
	Missed    record.SpansMissed `json:"spans_missed,omitzero"`
	Calm      []record.Calm      `json:"calm,omitempty"`
	Stolen    float64            `json:"stolen,omitempty"`
	Doubt     record.Doubt       `json:"doubt,omitempty"`
}

func headOf(r *record.Run) string {
	h := head{r.Project, r.Seed, r.Functions, r.Sources, r.Budgets, r.Payloads, r.LastDue, nil, r.Notes, r.Idempotence,
		r.Changes, r.Concurrency, r.ColdStarts, r.Rates, r.Self, r.Machine, r.Commit, r.Branch, r.Plan, r.Said,
		r.Begins, r.Marks, r.EarlyOf, r.StoppedAt, r.Upstreams, r.CallLabels, r.CallsLost, r.SpanNames, r.SpansMissed,
		r.Calm, r.Stolen, r.Doubt}
	if !math.IsNaN(r.Busy) {
		h.Busy = &r.Busy
	}
	text, _ := json.Marshal(h) // plain data always marshals
	return string(text)
}

// Writer writes one run. It is for one goroutine.
type Writer struct {
	s                                                                                 *Store
	id                                                                                string
	seq                                                                               int
	arrivals, invocations, attempts, deliveries, levels, blobs, calls, spans, machine int // written so far
	instances, changes, lines                                                         int // seen so far
	// instances that had not stopped when they were last seen
	alive []int32
	bytes int64 // written so far
	over  []int // invocations that had been written with each block
}

// Begin enters a run that begins now.
func (s *Store) Begin(r *record.Run, began time.Time) (*Writer, error) {
	_, err := s.db.Exec("INSERT INTO runs (id, drill, began, head, project, machine, code, branch) "+
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?)", r.ID, r.Drill, began.UTC().Format(time.RFC3339Nano), headOf(r), r.Project,
		r.Machine, r.Commit, r.Branch)
	if err != nil {
		return nil, fmt.Errorf("cannot add the run: %w", s.said(err))
	}
	return &Writer{s: s, id: r.ID}, nil
}

// Append writes what the run holds beyond the last Append.
func (w *Writer) Append(r *record.Run) error { return w.s.said(w.write(r, nil)) }

// Lines writes those lines of the run's log that were not written yet, of all so far.
func (w *Writer) Lines(all []record.Line) error {
	if len(all) <= w.lines {
		return nil
	}
	data, err := packLines(all[w.lines:])
	if err != nil {
		return err
	}
	// they are numbered by themselves: a line more or less does not spoil the records
	if _, err = w.s.db.Exec("INSERT OR REPLACE INTO blocks (run, kind, seq, data) VALUES (?, 'lines', ?, ?)", w.id,
		w.lines, data); err != nil {
		return w.s.said(err)
	}
	w.lines, w.bytes = len(all), w.bytes+int64(len(data))
	return nil
}

// Finish writes the rest of the run, its end, and its findings.
func (w *Writer) Finish(r *record.Run, p *report.Page) error { return w.s.said(w.write(r, p)) }

func (w *Writer) write(r *record.Run, page *report.Page) error {
	tx, err := w.s.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it does nothing
	size := int64(0)
	put := func(kind string, data []byte, n int) {
		if err == nil && n > 0 {
			_, err = tx.Exec("INSERT INTO blocks (run, kind, seq, data) VALUES (?, ?, ?, ?)", w.id, kind, w.seq, data)
			size += int64(len(data))
		}
	}
	a, v, t, d := r.Arrivals[w.arrivals:], r.Invocations[w.invocations:], r.Attempts[w.attempts:],
		r.Deliveries[w.deliveries:]
	put("arrivals", arrivals.encode(a), len(a))
	put("invocations", invocations.encode(v), len(v))
	// what was written has changed
	for seq, from := 0, 0; r.Doubt != record.NoDoubt && err == nil && seq < len(w.over); seq++ {
		data := invocations.encode(r.Invocations[from:w.over[seq]])
		_, err = tx.Exec("UPDATE blocks SET data = ? WHERE run = ? AND kind = 'invocations' AND seq = ?", data,
			w.id, seq)
		from = w.over[seq]
	}
	put("attempts", attempts.encode(t), len(t))
	put("deliveries", deliveries.encode(d), len(d))
	put("levels", levels.encode(r.Levels[w.levels:]), len(r.Levels)-w.levels)
	put("calls", calls.encode(r.Calls[w.calls:]), len(r.Calls)-w.calls)
	put("machine", machine.encode(r.Loads[w.machine:]), len(r.Loads)-w.machine)
	put("spans", spans.encode(r.Spans[w.spans:]), len(r.Spans)-w.spans)
	for i := w.blobs; i < len(r.Blobs) && err == nil; i++ {
		_, err = tx.Exec("INSERT INTO blobs (run, number, data) VALUES (?, ?, ?)", w.id, i+1, r.Blobs[i])
		size += int64(len(r.Blobs[i]))
	}
	if err != nil {
		return err
	}
	alive, stopped := w.sort(r)
	if len(stopped) > 0 {
		text, _ := json.Marshal(stopped) // plain data always marshals
		if _, err = tx.Exec("INSERT INTO blocks (run, kind, seq, data) VALUES (?, 'instances', ?, ?)", w.id, w.seq+1,
			text); err != nil {
			return err
		}
	}
	// those that live change: all of them, each time
	living := make([]record.Instance, 0, len(alive))
	for _, id := range alive {
		living = append(living, r.Instances[id])
	}
	text, _ := json.Marshal(living)
	if _, err = tx.Exec("INSERT OR REPLACE INTO blocks (run, kind, seq, data) VALUES (?, 'instances', 0, ?)", w.id,
		text); err != nil {
		return err
	}
	if page != nil {
		text, _ := json.Marshal(page) // plain data always marshals
		main, _ := json.Marshal(page.Main())
		size += int64(len(text))
		_, err = tx.Exec("UPDATE runs SET length = ?, finished = ?, head = ?, page = ?, main = ?, bytes = ? "+
			"WHERE id = ?", int64(r.Length), r.Finished, headOf(r), text, main, w.bytes+size, w.id)
	} else if len(r.Changes) > w.changes {
		_, err = tx.Exec("UPDATE runs SET length = ?, head = ? WHERE id = ?", int64(r.Length), headOf(r), w.id)
	} else {
		_, err = tx.Exec("UPDATE runs SET length = ? WHERE id = ?", int64(r.Length), w.id)
	}
	if err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	w.seq++
	w.bytes += size
	w.over = append(w.over, len(r.Invocations))
	w.arrivals, w.invocations, w.attempts, w.deliveries = len(r.Arrivals), len(r.Invocations), len(r.Attempts),
		len(r.Deliveries)
	w.levels, w.blobs, w.calls, w.spans, w.machine = len(r.Levels), len(r.Blobs), len(r.Calls), len(r.Spans),
		len(r.Loads)
	w.instances, w.changes, w.alive = len(r.Instances), len(r.Changes), alive
	return nil
}

// sort separates the instances that live, or were only planned, from those that have stopped since
// they were last seen, and will not change any more.
func (w *Writer) sort(r *record.Run) (alive []int32, stopped []record.Instance) {
	look := func(id int32) {
		if in := &r.Instances[id]; in.Stopped > 0 {
			stopped = append(stopped, *in)
		} else {
			alive = append(alive, id)
		}
	}
	for _, id := range w.alive {
		look(id)
	}
	for id := w.instances; id < len(r.Instances); id++ {
		look(int32(id))
	}
	return alive, stopped
}

// List returns the runs, the newest first.
func (s *Store) List() ([]Info, error) {
	rows, err := s.db.Query("SELECT id, drill, began, finished, length, name, note, pinned, bytes, project, " +
		"machine, code, branch, main FROM runs ORDER BY began DESC, id DESC")
	if err != nil {
		return nil, s.said(err)
	}
	defer rows.Close()
	var out []Info
	for rows.Next() {
		var i Info
		var began string
		var main sql.NullString
		if err := rows.Scan(&i.ID, &i.Drill, &began, &i.Finished, &i.Length, &i.Name, &i.Note, &i.Pinned, &i.Bytes,
			&i.Project, &i.Machine, &i.Commit, &i.Branch, &main); err != nil {
			return nil, s.said(err)
		}
		if i.Began, err = time.Parse(time.RFC3339Nano, began); err != nil {
			return nil, fmt.Errorf("run %s: %w", i.ID, err)
		}
		if main.Valid {
			_ = ReadJSON([]byte(main.String), &i.Headline) // without it, there are no figures in the list
		}
		i.Seconds = i.Length.Seconds()
		i.Harmless()
		if !s.isAside(i.ID) {
			out = append(out, i)
		}
	}
	return out, s.said(rows.Err())
}

// Find returns the run that a user means: the name that they gave it, its ID, an
// unambiguous beginning of that, or "last".
func (s *Store) Find(name string) (Info, error) {
	all, err := s.List()
	if err != nil {
		return Info{}, err
	}
	return FindIn(all, name)
}

// FindIn returns the run that a user means among some, the newest first, as Find does.
func FindIn(all []Info, name string) (Info, error) {
	if len(all) == 0 {
		return Info{}, errors.New("no runs yet; nightdrill run DRILL makes one")
	}
	if name == "last" {
		return all[0], nil
	}
	var found []Info
	for _, i := range all {
		if i.ID == name || i.Name == name && name != "" {
			return i, nil
		}
		if strings.HasPrefix(i.ID, name) && name != "" {
			found = append(found, i)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return Info{}, fmt.Errorf("no run %q; nightdrill runs list prints their names", name)
	}
	return Info{}, fmt.Errorf("%q could be %s or %s; type more of it", name, found[0].ID, found[1].ID)
}

// Page returns the findings of a run: those that were kept, or, of a run that was
// cut off, computed from what was written.
func (s *Store) Page(id string) (*report.Page, error) {
	var text sql.NullString
	err := s.db.QueryRow("SELECT page FROM runs WHERE id = ?", id).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("no run %q", id)
	} else if err != nil {
		return nil, s.said(err)
	}
	if text.Valid {
		p := &report.Page{}
		// those of another version of the program are computed anew
		if ReadJSON([]byte(text.String), p) == nil && p.Version == report.PageVersion && p.Summary != nil &&
			p.Time != nil {
			return p, nil
		}
	}
	r, err := s.Load(id)
	if err != nil {
		return nil, err
	}
	return report.NewPage(r), nil
}

// Blob returns the bytes of an event or a reply of a run by their number.
func (s *Store) Blob(run string, number int32) (data []byte, err error) {
	err = s.db.QueryRow("SELECT data FROM blobs WHERE run = ? AND number = ?", run, number).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("the run does not contain them")
	}
	return data, err
}

// head reads what a run is, without its records.
func (s *Store) head(id string) (*record.Run, error) {
	r := &record.Run{ID: id, Busy: math.NaN()}
	var text string
	err := s.db.QueryRow("SELECT drill, finished, length, head FROM runs WHERE id = ?", id).Scan(&r.Drill, &r.Finished,
		(*int64)(&r.Length), &text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("no run %q", id)
	} else if err != nil {
		return nil, s.said(err)
	}
	var h head
	err = ReadJSON([]byte(text), &h)
	if err == nil { // the plan is carried out again as it was
		err = json.Unmarshal([]byte(text), &struct {
			Plan *json.RawMessage `json:"plan"`
		}{&h.Plan})
	}
	if err != nil {
		return nil, fmt.Errorf("run %s is damaged: %w", id, err)
	}
	r.Project, r.Seed, r.Functions, r.Sources, r.Budgets, r.Payloads, r.LastDue, r.Notes, r.Idempotence = h.Project,
		h.Seed, h.Functions, h.Sources, h.Budgets, h.Payloads, h.LastDue, h.Notes, h.Twice
	r.Changes, r.Concurrency, r.ColdStarts = h.Changes, h.All, h.Cold
	r.Rates, r.Self, r.Machine, r.Commit, r.Branch, r.Plan, r.Said, r.Begins = h.Rates, h.Self, h.Machine, h.Commit,
		h.Branch, h.Plan, h.Said, h.Begins
	r.Marks, r.EarlyOf, r.StoppedAt = h.Marks, h.EarlyOf, h.StoppedAt
	r.Upstreams, r.CallLabels, r.CallsLost = h.Upstreams, h.Labels, h.CallsLost
	r.SpanNames, r.SpansMissed, r.Calm, r.Stolen, r.Doubt = h.Spans, h.Missed, h.Calm, h.Stolen, h.Doubt
	if h.Busy != nil {
		r.Busy = *h.Busy
	}
	if err := soundHead(r); err != nil {
		return nil, fmt.Errorf("run %s is damaged: %w", id, err)
	}
	return r, nil
}

// Load reads a run, without its blobs. Of one that was cut off it gives what was written.
func (s *Store) Load(id string) (*record.Run, error) {
	r, err := s.head(id)
	if err != nil {
		return nil, err
	}
	blocks, until, err := s.blocks(id)
	if err != nil {
		return nil, err
	}
	if err := s.roomFor(id, blocks); err != nil {
		return nil, err
	}
	if cut := fill(r, blocks, until); cut != "" {
		r.Finished = false
		r.Notes = append(slices.Clone(r.Notes), "a part of what this run recorded is damaged and was skipped: "+cut)
	}
	listPayloads(r)
	s.timings(r)
	return r, nil
}

// listPayloads lists those of a run that was cut off: payloads that were made on the way are not known.
func listPayloads(r *record.Run) {
	for i := range r.Arrivals {
		for int(r.Arrivals[i].Payload) >= len(r.Payloads) {
			r.Payloads = append(r.Payloads, record.Payload{Set: "replies", N: 1, Label: "a reply that was sent on"})
		}
	}
}

// timings reads what functions reported of their first replies, for the phases of starts.
func (s *Store) timings(r *record.Run) {
	for i := range r.Invocations {
		v := &r.Invocations[i]
		if v.Timing == 0 || v.Class == engine.Warm || r.Timings[v.Timing] != "" {
			continue
		}
		text, err := s.Blob(r.ID, v.Timing)
		if err != nil {
			continue // the figures do without it
		}
		if r.Timings == nil {
			r.Timings = map[int32]string{}
		}
		r.Timings[v.Timing] = string(text)
	}
}
