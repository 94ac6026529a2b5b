package hold

import (
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"testing"
)

func TestOneHoldsAlone(t *testing.T) {
	at := filepath.Join(t.TempDir(), "file")
	first, err := Take(at)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Take(at); !errors.Is(err, ErrHeld) {
		t.Errorf("a second holder: %v", err)
	}
	if _, err := Share(at); !errors.Is(err, ErrHeld) {
		t.Errorf("one that would share: %v", err)
	}
	if got := Holder(at); got != strconv.Itoa(os.Getpid()) {
		t.Errorf("the holder is %q", got)
	}
	first.Release()
	one, err := Share(at)
	if err != nil {
		t.Fatal(err)
	}
	two, err := Share(at)
	if err != nil {
		t.Fatal(err)
	}
	one.Release()
	if _, err := Take(at); !errors.Is(err, ErrHeld) {
		t.Errorf("taken while one shares it: %v", err)
	}
	two.Release()
}

func TestFoldersWithoutAHolderAreSwept(t *testing.T) {
	below := filepath.Join(t.TempDir(), "apart")
	Sweep(below) // there is none yet
	held, err := Folder(filepath.Join(below, "held"))
	if err != nil {
		t.Fatal(err)
	}
	defer held.Release()
	gone, err := Folder(filepath.Join(below, "gone"))
	if err != nil {
		t.Fatal(err)
	}
	gone.Release() // as when its program is killed
	Sweep(below)
	entries, _ := os.ReadDir(below)
	if len(entries) != 1 || entries[0].Name() != "held" {
		t.Errorf("left are %v", entries)
	}
}
