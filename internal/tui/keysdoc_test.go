package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"charm.land/bubbles/v2/key"

	"nightdrill.dev/internal/session"
)

// keysDoc writes the keys of all views as a page, from the tables that the help is drawn from.
func keysDoc(s *shell) string {
	var b strings.Builder
	b.WriteString("# Keys\n\n`?` shows the keys of the view that is open; `:` finds anything below by its name. " +
		"Arrows, Page Up and Page Down\nmove in every list and page.\n")
	write := func(title string, all []key.Binding) {
		fmt.Fprintf(&b, "\n## %s\n\n| key | |\n| --- | --- |\n", title)
		for _, k := range all {
			if h := k.Help(); h.Key != "" {
				fmt.Fprintf(&b, "| `%s` | %s |\n", h.Key, h.Desc)
			}
		}
	}
	write("Everywhere", everywhere)
	for i, v := range s.views() {
		write(tabs[i].key+" "+tabs[i].name, v.Keys())
	}
	b.WriteString("\n## Mouse\n\nA click chooses a view, a row or a point of a drawing, and the wheel scrolls. `M` " +
		"leaves " +
		"the mouse to the terminal, so\nthat text can be selected, and takes it back. With `" + mouseOff +
		"=1` in the environment it is the terminal's from\nthe start. What `y` copies goes to the clipboard by " +
		"OSC 52, " +
		"also over SSH.\n")
	return b.String()
}

// docs/keys.md has the keys of the views as they are. make keys writes it.
func TestTheKeysAreWrittenDown(t *testing.T) {
	dir := t.TempDir()
	lay(t, dir)
	change(t, filepath.Join(dir, "nightdrill.yaml"), `"{nightdrill}"`, `"`+program+`"`)
	d, err := session.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	stand, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer stand.Close()
	want := keysDoc(newShell(t.Context(), d, stand, nil))
	const file = "../../docs/keys.md"
	if os.Getenv("NIGHTDRILL_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf("%v: docs/keys.md is not as the views are; make keys writes it", err)
	}
}
