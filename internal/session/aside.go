package session

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nightdrill.dev/internal/live/hold"
	"nightdrill.dev/internal/store"
)

// aside is where a program keeps what is deleted when it quits: the objects of its drills, and all
// of its objects if another program has the project open and this one works separately.
type aside struct {
	state  string // the project's folder of the program
	second string // folder of a program that works separately; "" for the first one of a project
	other  string // the number of the first one's process
	first  *hold.Lock
	mu     sync.Mutex
	at     string // the folder, once it is needed
	held   *hold.Lock
}

// openAside finds out whether another program has the project open.
func openAside(dir string) (*aside, error) {
	state, err := store.Folder(dir)
	if err != nil {
		return nil, fmt.Errorf("cannot create the program's folder: %w", err)
	}
	a := &aside{state: state}
	lock := filepath.Join(state, "lock")
	if a.first, err = hold.Take(lock); !errors.Is(err, hold.ErrHeld) {
		hold.Sweep(a.below()) // where no file can be locked, each program counts as the first
		return a, nil
	}
	a.other = hold.Holder(lock)
	a.second, err = a.folder()
	return a, err
}

func (a *aside) below() string { return filepath.Join(a.state, "aside") }

// folder returns the folder; it is made when it is needed.
func (a *aside) folder() (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.at != "" {
		return a.at, nil
	}
	at := filepath.Join(a.below(), fmt.Sprintf("%d-%d", os.Getpid(), time.Now().UnixNano()))
	held, err := hold.Folder(at)
	if err != nil {
		return "", fmt.Errorf("cannot create the folder for a drill's objects: %w", err)
	}
	a.at, a.held = at, held
	return at, nil
}

// log returns the file that the lines of functions are written to.
func (a *aside) log() string {
	const name = "functions.log"
	if a.second != "" {
		return filepath.Join(a.second, name)
	}
	return filepath.Join(a.state, name)
}

// close removes the folder; the log of a program that works separately is kept.
func (a *aside) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.second != "" {
		_ = os.Rename(a.log(), filepath.Join(a.state, "functions-apart.log")) // there may be none
	}
	if a.at != "" {
		_ = os.RemoveAll(a.at)
	}
	a.held.Release()
	a.first.Release()
}

// Apart returns the note that another program has the project open, or "".
func (d *Workspace) Apart() string {
	if d.aside.second == "" {
		return ""
	}
	other := "another Night Drill"
	if d.aside.other != "" {
		other += " (process " + d.aside.other + ")"
	}
	return other + " has this project open, so this one works separately: objects that it stores are deleted when " +
		"it quits"
}
