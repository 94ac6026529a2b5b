package tui

import (
	"testing"
)

// Ctrl-Z and SIGTSTP give the terminal back, and fg the screen; where there is no shell
// to go to, the screen stays.
func TestToTheBackgroundAndBack(t *testing.T) {
	x := open(t, 100, 30)
	lay(t, x.dir)
	x.shell("stty -g > a; " + program)
	for _, leave := range []func(){
		func() { x.keys("C-z") },
		func() { toProgram(t, "TSTP", program) },
	} {
		x.wait("fares", "Wiring")
		leave()
		x.wait("Stopped")
		x.gone("Wiring")
		x.shell("stty -g > b; cmp a b && echo as it w''as")
		x.wait("as it was")
		x.shell("clear; fg")
	}
	x.wait("fares", "Wiring")
	x.keys("q")
	x.wait("quay>")
	x.shell("clear; exec " + program)
	x.wait("fares", "Wiring")
	x.keys("C-z")
	x.wait("no shell to return to")
}
