package store

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"nightdrill.dev/internal/core/plan"
)

// set changes one column of a run.
func (s *Store) set(id, column string, value any) error {
	done, err := s.db.Exec("UPDATE runs SET "+column+" = ? WHERE id = ?", value, id)
	if err != nil {
		return s.said(err)
	}
	if n, _ := done.RowsAffected(); n == 0 {
		return fmt.Errorf("no run %q", id)
	}
	return nil
}

// mostName bounds the name of a run, in bytes.
const mostName = 60

// Name returns a run a name by which it is found and shown; "" takes it away.
func (s *Store) Name(id, name string) error {
	name = strings.TrimSpace(name)
	if name == "last" || strings.ContainsFunc(name, unicode.IsControl) || len(name) > mostName {
		return fmt.Errorf("%q is not a name for a run: at most %d letters, without control characters, and not last",
			name, mostName)
	}
	all, err := s.List()
	if err != nil {
		return err
	}
	for i := range all {
		if name != "" && all[i].ID != id && (all[i].Name == name || all[i].ID == name) {
			return fmt.Errorf("another run, %s, already has the name %q", all[i].ID, name)
		}
	}
	return s.set(id, "name", name)
}

// Note writes a note to a run.
func (s *Store) Note(id, text string) error { return s.set(id, "note", text) }

// Pin keeps a run whatever the rule says, or no longer.
func (s *Store) Pin(id string, on bool) error { return s.set(id, "pinned", on) }

// underWay is for how long after it was last written an unfinished run may still be
// in progress, maybe by another program.
const underWay = 3 * time.Second

// UnderWay reports whether a run may still be being carried out.
func (i *Info) UnderWay(now time.Time) bool {
	return !i.Finished && i.Headline == nil && now.Sub(i.Began.Add(i.Length)) < underWay
}

// Delete deletes a run for good.
func (s *Store) Delete(i Info) error {
	if i.UnderWay(time.Now()) {
		return fmt.Errorf("run %s is still in progress; stop it first", i.ID)
	}
	done, err := s.db.Exec("DELETE FROM runs WHERE id = ?", i.ID)
	if err != nil {
		return s.said(err)
	}
	if n, _ := done.RowsAffected(); n == 0 {
		return fmt.Errorf("no run %q", i.ID)
	}
	return nil
}

// PutAside takes a run off the list. It is deleted when the store is closed, unless BringBack is called
// before; if the program is killed, it is kept.
func (s *Store) PutAside(i Info) error {
	if i.UnderWay(time.Now()) {
		return fmt.Errorf("run %s is still in progress; stop it first", i.ID)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.aside = append(s.aside, i)
	return nil
}

// BringBack lists the run again that was put aside last, and returns it; ok is false where there is none.
func (s *Store) BringBack() (i Info, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.aside) == 0 {
		return i, false
	}
	i, s.aside = s.aside[len(s.aside)-1], s.aside[:len(s.aside)-1]
	return i, true
}

func (s *Store) isAside(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.ContainsFunc(s.aside, func(i Info) bool { return i.ID == id })
}

// Surplus returns the runs that a rule does not keep; those that have a name, are
// pinned or in progress are kept in any case. all is the list, the newest first.
func Surplus(all []Info, k plan.Keeping, now time.Time) (out []Info) {
	bytes := int64(0)
	for n, i := range all {
		bytes += i.Bytes
		over := k.Runs > 0 && n >= k.Runs || k.For > 0 && now.Sub(i.Began) > k.For || k.Bytes > 0 && bytes > k.Bytes
		if over && !i.Pinned && i.Name == "" && !i.UnderWay(now) {
			out = append(out, i)
		}
	}
	return out
}

// Trim deletes the runs that a rule does not keep, and returns them. What they took is
// given back to the system as far as the file's form allows.
func (s *Store) Trim(k plan.Keeping) (gone []Info, err error) {
	if k == (plan.Keeping{}) {
		return nil, nil
	}
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	for _, i := range Surplus(all, k, time.Now()) {
		if e := s.Delete(i); e != nil {
			err = errors.Join(err, e)
			continue
		}
		gone = append(gone, i)
	}
	if len(gone) > 0 {
		_, _ = s.db.Exec("PRAGMA incremental_vacuum") // of files that were made with it
	}
	return gone, err
}
