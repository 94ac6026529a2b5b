package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"syscall"

	"nightdrill.dev/internal/core/text"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What can be wrong with a store is distinguished, since what helps is not the same.
var (
	// ErrDamaged is that the file has lost what was in it.
	ErrDamaged = errors.New("is damaged")
	// ErrFull is that nothing can be written, since the disk is full.
	ErrFull = errors.New("cannot be written, since the disk is full")
	// ErrBusy is that another program is at it for too long.
	ErrBusy = errors.New("is in use by another program")
	// ErrNewer is that a newer program wrote it.
	ErrNewer = errors.New("was written by a newer Night Drill")
)

// trouble returns what an error of the database means; nil where it says nothing of these.
func (s *Store) trouble(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return ErrFull
	}
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return nil
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL:
		return ErrFull
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return ErrBusy
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return ErrDamaged
	case sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN: // the files beside it may not be made, or not be read
		switch e.Code() {
		case sqlite3.SQLITE_IOERR_READ, sqlite3.SQLITE_IOERR_SHORT_READ:
			return ErrDamaged
		}
		if room(filepath.Dir(s.path)) < leastRoom {
			return ErrFull
		}
	}
	return nil
}

// leastRoom is the room, in bytes, that a store needs on a disk to be opened.
const leastRoom = 256 << 10

// room returns how many bytes are free on the disk of a folder, for this user.
func room(dir string) uint64 {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 1 << 62
	}
	return uint64(s.Bavail) * uint64(s.Bsize)
}

// said returns an error of the database in words, with what helps.
func (s *Store) said(err error) error {
	var e *sqlite.Error
	switch what := s.trouble(err); {
	case err == nil:
		return nil
	case what == ErrDamaged:
		return fmt.Errorf("%s %w (%v); nightdrill runs rescue recovers what can be read of it, and deletes nothing",
			s.path,
			what, err)
	case what == ErrFull:
		return fmt.Errorf("%s %w; free some space, its contents are intact", s.path, what)
	case what == ErrBusy:
		return fmt.Errorf("%s %w, for longer than %v; try again", s.path, what, text.Duration(patience))
	case errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_READONLY, errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s cannot be written by this user: %w", s.path, err)
	}
	return err
}

// isDamage reports whether an error says that the file itself is damaged.
func (s *Store) isDamage(err error) bool { return s.trouble(err) == ErrDamaged }

// check returns ErrDamaged where a store has lost what was in it, another error where that
// cannot be told, and nil for a whole one.
func (s *Store) check() error {
	var text string
	if err := s.db.QueryRow("PRAGMA quick_check(1)").Scan(&text); err != nil {
		return s.said(err)
	}
	if text != "ok" {
		return fmt.Errorf("%s %w (%s)", s.path, ErrDamaged, text)
	}
	var table string
	var rowid, parent, n any
	switch err := s.db.QueryRow("PRAGMA foreign_key_check").Scan(&table, &rowid, &parent, &n); {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return s.said(err)
	}
	return fmt.Errorf("%s %w (%s refer to runs that do not exist)", s.path, ErrDamaged, table)
}
