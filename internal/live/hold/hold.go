// Package hold lets the programs that work on one project know of each other, by locks on
// files that end with whoever holds them, however it ends.
//
// Take holds a file alone, Share beside others; Sweep removes folders whose holder is gone.
package hold

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// ErrHeld is returned where another program holds the file.
var ErrHeld = errors.New("locked by another program")

// Lock is a held file. A nil Lock holds nothing.
type Lock struct{ file *os.File }

// Take holds a file alone, and enters the number of this process in it. It returns [ErrHeld]
// where another program holds it, and another error where no one can be told about.
func Take(path string) (*Lock, error) {
	l, err := open(path, syscall.LOCK_EX)
	if err != nil {
		return nil, err
	}
	if err := l.file.Truncate(0); err == nil {
		_, _ = fmt.Fprintln(l.file, os.Getpid()) // for people; nothing reads it but Holder
	}
	return l, nil
}

// Share holds a file beside others that share it. It returns [ErrHeld] where another
// program has taken it.
func Share(path string) (*Lock, error) { return open(path, syscall.LOCK_SH) }

func open(path string, how int) (*Lock, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(file.Fd()), how|syscall.LOCK_NB); err != nil {
		_ = file.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, ErrHeld
		}
		return nil, err
	}
	return &Lock{file}, nil
}

// Holder returns the number of the process that took a file, as it wrote it; "" where that
// is not known.
func Holder(path string) string {
	text, err := os.ReadFile(path)
	if err != nil || len(text) > 20 {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// Release unlocks the file.
func (l *Lock) Release() {
	if l != nil {
		_ = l.file.Close() // which ends the lock
	}
}

// name is that of the file by which a folder is held.
const name = "lock"

// Folder makes a new folder and holds it alone.
func Folder(path string) (l *Lock, err error) {
	for range 10 {
		if err = os.MkdirAll(path, 0o700); err != nil {
			return nil, err
		}
		if l, err = Take(filepath.Join(path, name)); err != nil {
			continue
		}
		if _, err = os.Stat(filepath.Join(path, name)); err == nil {
			return l, nil
		}
		l.Release() // it was swept before it was held
	}
	return nil, err
}

// Sweep removes the folders below one that no one holds any more: their programs ended
// without removing them.
func Sweep(below string) {
	entries, err := os.ReadDir(below)
	if err != nil {
		return // there is none
	}
	for _, e := range entries {
		at := filepath.Join(below, e.Name())
		if l, err := Take(filepath.Join(at, name)); err == nil {
			_ = os.RemoveAll(at)
			l.Release()
		}
	}
}
