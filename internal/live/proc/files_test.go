package proc

import (
	"errors"
	"syscall"
	"testing"
)

// Where no more files can be opened that is said, and said at once: no other port
// would be better.
func TestNoMoreFilesIsSaid(t *testing.T) {
	if p, err := Start(Command{Args: []string{"true"}}); err != nil { // begins what starts processes
		t.Fatal(err)
	} else {
		<-p.Done()
	}
	var was syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &was); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Setrlimit(syscall.RLIMIT_NOFILE, &syscall.Rlimit{Cur: 3, Max: was.Max}); err != nil {
		t.Fatal(err)
	}
	port, atPort := FreePort()
	_, atStart := Start(Command{Args: []string{"true"}})
	if err := syscall.Setrlimit(syscall.RLIMIT_NOFILE, &was); err != nil {
		t.Fatal(err)
	}
	if !errors.Is(atPort, syscall.EMFILE) || !errors.Is(atStart, syscall.EMFILE) {
		t.Errorf("port %d, %v; start: %v", port, atPort, atStart)
	}
}
