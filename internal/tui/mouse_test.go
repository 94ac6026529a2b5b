package tui

import (
	"fmt"
	"testing"
)

// mouse sends a mouse event as a terminal does (SGR, xterm's mode 1006): a button at a column and a row from 1.
func (x *terminal) mouse(button, column, row int) {
	var bytes []string
	for _, b := range []byte(fmt.Sprintf("\x1b[<%d;%d;%dM\x1b[<%d;%d;%dm", button, column, row, button, column, row)) {
		bytes = append(bytes, fmt.Sprintf("%x", b))
	}
	x.tmux(append([]string{"send-keys", "-H"}, bytes...)...)
}

// A click chooses a view, a payload and a pane; the wheel scrolls; M gives the mouse to the
// terminal and takes it back; y copies what has the keys.
func TestTheMouse(t *testing.T) {
	x := open(t, 150, 42)
	example(t, x.dir, "python")
	x.sttys(program)
	x.wait("▸ Payloads", "fare-requests#1")
	const left, down = 0, 65
	first := x.pane()
	x.mouse(left, 20, 6) // the second payload
	x.until("with another payload", func() bool { return x.pane() != first })
	second := x.pane()
	x.mouse(down, 20, 6)
	x.until("scrolled", func() bool { return x.pane() != second })
	x.mouse(left, 52, 1)
	x.wait("put an event on the map")
	x.keys("3")
	x.wait("▸ Payloads")
	x.keys("y")
	x.wait("Copied: curl")
	x.mouse(left, 100, 20)
	x.wait("  Payloads", "What does the function reply?")
	x.keys("M")
	x.wait("The mouse is the terminal's")
	x.keys("M")
	x.wait("The mouse chooses again")
	x.keys("q")
	x.restored(0)
}

// The help shows the keys of what has the focus: of a view, of a list or a panel over it. A command
// is chosen from a list; one that does not exist is not.
func TestHelpAndCommands(t *testing.T) {
	x := open(t, 150, 42)
	example(t, x.dir, "python")
	x.sttys(program)
	x.wait("▸ Payloads")
	x.keys("?")
	x.wait("Keys and symbols", "fire n times in a row")
	x.escape("Keys and symbols")
	x.keys("l")
	x.gone("fare-requests#1")
	x.keys("?")
	x.wait("Keys and symbols", "search")
	x.gone("fire n times in a row")
	x.escape("Keys and symbols")
	x.keys("Escape")
	x.wait("fare-requests#1")
	x.keys(":")
	x.wait("commands", "payloads", "↑↓ choose", "esc cancels")
	x.keys("-l", "zzz")
	x.wait("0 of ")
	x.keys("Enter") // does nothing
	x.wait(":zzz")
	x.keys("C-u")
	x.keys("-l", "wiri")
	x.wait(":wiri", "1 of ")
	x.keys("Down", "Up", "Enter")
	x.wait("put an event on the map")
	x.keys("q")
	x.restored(0)
}
