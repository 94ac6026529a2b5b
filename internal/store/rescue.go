package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/live/hold"
)

// Rescued is the result of a rescue.
type Rescued struct {
	Runs, Whole int      // runs that were saved, and those of them of which nothing is missing
	Lost        []string // runs that are known to have been there, and could not be saved
	Damaged     string   // where the damaged file is now
}

// Rescue saves what can be read of a damaged store into a new one, and sets the
// damaged file aside. Nothing is deleted. One that is whole, newer, or open elsewhere
// is refused, and left as it is.
func Rescue(dir string, now time.Time) (out Rescued, err error) {
	path := Path(dir)
	if _, err := os.Stat(path); err != nil {
		return out, fmt.Errorf("no runs to recover: %w", err)
	}
	lock, err := hold.Take(lockOf(dir))
	if errors.Is(err, hold.ErrHeld) {
		return out, fmt.Errorf("%s %w; close every Night Drill of this project first", path, ErrBusy)
	}
	defer lock.Release()
	if err := rescuable(path); err != nil {
		return out, err
	}
	fresh := filepath.Join(dir, stateDir, "rescue", stateDir, "runs.db")
	_ = os.RemoveAll(filepath.Join(dir, stateDir, "rescue")) // left by one that was interrupted
	to, err := Open(filepath.Join(dir, stateDir, "rescue"))
	if err != nil {
		return out, err
	}
	defer os.RemoveAll(filepath.Join(dir, stateDir, "rescue"))
	from, err := sql.Open("sqlite", "file:"+uriPath(path)+"?_pragma=busy_timeout(5000)")
	if err == nil {
		from.SetMaxOpenConns(1)
		x := rescue{from: from, to: to}
		out.Runs, out.Whole, out.Lost = x.all()
		_ = from.Close()
		if x.full != nil {
			_ = to.Close()
			return Rescued{}, fmt.Errorf("%w; the damaged file is unchanged", to.said(x.full))
		}
	}
	if err := to.Close(); err != nil {
		return out, err
	}
	out.Damaged = path + ".damaged-" + now.Format("20060102-150405")
	if err := os.Rename(path, out.Damaged); err != nil {
		return out, err
	}
	for _, beside := range []string{"-wal", "-shm"} { // they belong to the damaged file
		if err := os.Rename(path+beside, out.Damaged+beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return out, err
		}
	}
	for _, beside := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(fresh+beside, path+beside); err != nil &&
			!(beside != "" && errors.Is(err, fs.ErrNotExist)) {
			return out, err
		}
	}
	return out, nil
}

// rescuable returns nil where a store is damaged, and otherwise why there is nothing to rescue.
func rescuable(path string) error {
	s := &Store{path: path}
	err := s.connect()
	if err == nil {
		err = s.check()
		if _, busy := s.db.Exec("BEGIN IMMEDIATE; ROLLBACK"); s.trouble(busy) == ErrBusy { // by whatever program
			err = s.said(busy)
		}
		_, _ = s.reads.Close(), s.db.Close()
	}
	switch {
	case err == nil:
		return fmt.Errorf("%s is not damaged; there is nothing to rescue", path)
	case errors.Is(err, ErrDamaged):
		return nil
	}
	return fmt.Errorf("nothing was recovered: %w", err)
}

// rescue is one in progress.
type rescue struct {
	from *sql.DB
	to   *Store
	full error // that the disk is full
}

// put writes a row; a disk that is full ends the rescue.
func (x *rescue) put(query string, values ...any) error {
	_, err := x.to.db.Exec(query, values...)
	if x.to.trouble(err) == ErrFull {
		x.full = err
	}
	return err
}

// columnsOf returns the columns of a table that a file has, which may be of an older
// form.
func columnsOf(db *sql.DB, table string) map[string]bool {
	out := map[string]bool{}
	rows, err := db.Query("SELECT name FROM pragma_table_info(?)", table)
	if err != nil {
		return out
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if rows.Scan(&name) == nil {
			out[name] = true
		}
	}
	return out
}

// isID is the form of a run's ID.
var isID = regexp.MustCompile(`^\d{8}-\d{6}-[a-z]+$`)

// all copies run by run, row by row, whatever can be read.
func (x *rescue) all() (runs, whole int, lost []string) {
	from := x.from
	columns := []string{"id", "drill", "began", "finished", "length", "head", "page", "name", "note", "pinned", "main",
		"bytes", "project", "machine", "code", "branch"}
	has := columnsOf(from, "runs")
	var there []string
	for _, c := range columns {
		if has[c] {
			there = append(there, c)
		}
	}
	seen := map[string]bool{}
	// from both ends: where the middle cannot be read, either side of it may be
	for _, order := range []string{"ASC", "DESC"} {
		rows, err := from.Query("SELECT rowid FROM runs ORDER BY rowid " + order)
		var ids []int64
		for err == nil && rows.Next() {
			var id int64
			if err = rows.Scan(&id); err == nil {
				ids = append(ids, id)
			}
		}
		if rows != nil {
			_ = rows.Close()
		}
		for _, id := range ids {
			values, ok := rowOf(from, "SELECT "+strings.Join(there, ", ")+" FROM runs WHERE rowid = ?", len(there), id)
			if !ok {
				continue
			}
			name := fmt.Sprint(values[0])
			if seen[name] || x.full != nil {
				continue
			}
			into := "INSERT INTO runs (" + strings.Join(there, ", ") + ") VALUES (" + marks(len(there)) + ")"
			if err := x.put(into, values...); err != nil {
				continue
			}
			seen[name] = true
			runs++
			all := x.rows("blocks", []string{"run", "kind", "seq", "data"}, []string{"kind", "seq"}, name)
			if len(columnsOf(from, "blobs")) > 0 {
				all = x.rows("blobs", []string{"run", "number", "data"}, []string{"number"}, name) && all
			}
			if all {
				whole++
			}
		}
	}
	// an index, or blocks, may know of runs whose own row cannot be read
	known := map[string]bool{}
	for _, query := range []string{"SELECT id FROM runs INDEXED BY sqlite_autoindex_runs_1",
		"SELECT DISTINCT run FROM blocks"} {
		rows, err := from.Query(query)
		for err == nil && rows.Next() {
			var id string
			if err = rows.Scan(&id); err == nil && isID.MatchString(id) { // what is read there may be anything
				known[id] = true
			}
		}
		if rows != nil {
			_ = rows.Close()
		}
	}
	for _, id := range slices.Sorted(maps.Keys(known)) {
		if !seen[id] {
			lost = append(lost, id)
		}
	}
	return runs, whole, lost
}

// rows copies the rows of a run, and reports whether all could be read.
func (x *rescue) rows(table string, columns, order []string, run string) bool {
	all := strings.Join(columns, ", ")
	insert := "INSERT OR IGNORE INTO " + table + " (" + all + ") VALUES (" + marks(len(columns)) + ")"
	for _, way := range []string{strings.Join(order, ", "), strings.Join(order, " DESC, ") + " DESC"} {
		rows, err := x.from.Query("SELECT "+all+" FROM "+table+" WHERE run = ? ORDER BY "+way, run)
		for err == nil && rows.Next() {
			values, into := make([]any, len(columns)), make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			if err = rows.Scan(into...); err == nil {
				_ = x.put(insert, values...)
				if x.full != nil {
					break
				}
			}
		}
		if rows != nil {
			if err == nil {
				err = rows.Err()
			}
			_ = rows.Close()
		}
		if err == nil {
			return true
		}
	}
	return false
}

func rowOf(db *sql.DB, query string, n int, args ...any) ([]any, bool) {
	values, into := make([]any, n), make([]any, n)
	for i := range values {
		into[i] = &values[i]
	}
	return values, db.QueryRow(query, args...).Scan(into...) == nil
}

func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?, ", n), ", ") }
