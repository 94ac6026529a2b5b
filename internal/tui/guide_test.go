package tui

import (
	"strings"
	"testing"
)

// Who sees the program for the first time is told what to try, one line at a time, by what was
// really done; one key puts that away for good.
func TestHints(t *testing.T) {
	x := open(t, 150, 42)
	example(t, x.dir, "python")
	command := "XDG_STATE_HOME=$PWD/state " + program
	x.sttys(command)
	x.wait("▸ Enter fires the chosen payload")
	x.keys("Enter")
	x.wait("▸ Fire it again", "200 OK")
	x.keys("Enter")
	x.wait("▸ w fires it again after each change")
	x.keys("2")
	x.wait("▸ Choose a source and press Enter")
	x.keys("3")
	x.gone("w fires it again after each change of the code. 2 shows")
	x.keys("T")
	x.wait("Hints are off, also next time")
	x.keys("2")
	x.gone("Choose a source and press Enter")
	x.keys("q")
	x.restored(0)
	x.sttys(command)
	if pane := x.wait("▸ Payloads", "What does the function reply?"); strings.Contains(pane, "Enter fires the chosen") {
		t.Errorf("the hints are back:\n%s", pane)
	}
	x.keys("T")
	x.wait("Hints are on")
	x.keys("2", "3")
	x.wait("Enter fires the chosen payload")
	x.keys("q")
	x.restored(0)
}
