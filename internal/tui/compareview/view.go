// Package compareview is the view that answers which of two or more is better, and
// whether that is more than noise: variants of a function, or two runs.
package compareview

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
	"nightdrill.dev/internal/tui/scroll"
)

// Messages to the shell.
type (
	// Variants requests a drill that compares the variants of a function.
	Variants struct {
		Function   string
		Of         []string
		Cold, Warm int
		Early      bool
	}
	// Export requests the shown comparison as pictures in a folder.
	Export struct {
		All []*measure.Comparison
		Dir string
	}
)

// Keys are the keys of the view.
var Keys = struct{ Left, Right, Older, Newer, Swap, SetUp, Export, Copy key.Binding }{
	Left:   key.NewBinding(key.WithKeys("left"), key.WithHelp("←→", "the other functions")),
	Right:  key.NewBinding(key.WithKeys("right")),
	Older:  pane.Bind("against an older run", "o"),
	Newer:  pane.Bind("against a newer run", "n"),
	Swap:   pane.Bind("swap the runs", "s"),
	SetUp:  pane.Bind("set up a comparison", "v"),
	Copy:   pane.Bind("copy the verdicts", "y"),
	Export: pane.Bind("export as pictures", "x"),
}

// Model is the state of the view.
type Model struct {
	about         string // the function that the next comparison begins with
	w, h          int
	store         *store.Store
	runs          []store.Info // the newest first
	first, second string       // the runs that are compared; first is "" for the variants of one
	all           []*measure.Comparison
	at            int // which of them
	loading       bool
	trouble       string
	scroll        scroll.Page
	choices       Choices
	form          *form // nil while none is open
}

// New returns the view.
func New(runs *store.Store) *Model { return &Model{store: runs} }

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	return nil
}

// Runs sets the list of runs, the newest first.
func (m *Model) Runs(all []store.Info) { m.runs = all }

// Took takes a comparison that was made, or an estimate; ok is false for messages of others.
func (m *Model) Took(msg tea.Msg) (cmd tea.Cmd, ok bool) {
	if e, ok := msg.(estimateMsg); ok {
		if m.form != nil {
			m.form.known[e.function] = e.estimate
		}
		return nil, true
	}
	t, ok := msg.(compared)
	if ok && t.first == m.first && t.second == m.second {
		m.loading, m.all, m.at, m.scroll.At = false, t.all, 0, 0
		for i, c := range t.all {
			if c.Title == m.about {
				m.at = i
			}
		}
		m.about = ""
		if m.trouble = ""; t.err != nil {
			m.trouble = t.err.Error()
		}
	}
	return nil, ok
}

type compared struct {
	first, second string
	all           []*measure.Comparison
	err           error
}

// About compares what suits a run: its variants where it has several, or else the run
// before it of the same drill with it. It does nothing where that is shown already.
func (m *Model) About(id string) tea.Cmd {
	if id == "" || m.second == id && (m.all != nil || m.loading) {
		return nil
	}
	at := m.place(id)
	if at < 0 {
		return nil
	}
	if info := &m.runs[at]; strings.HasPrefix(info.Drill, "compare ") || hasVariants(info) {
		return m.Compare("", id)
	}
	for k := at + 1; k < len(m.runs); k++ {
		if m.runs[k].Drill == m.runs[at].Drill && m.runs[k].Headline != nil {
			return m.Compare(m.runs[k].ID, id)
		}
	}
	return nil
}

func hasVariants(i *store.Info) bool {
	if i.Headline == nil {
		return false
	}
	bases := map[string]int{}
	for _, f := range i.Headline.Functions {
		base := plan.BaseName(strings.TrimSuffix(f.Name, plan.DroppedMark))
		if bases[base]++; bases[base] > 1 {
			return true
		}
	}
	return false
}

func (m *Model) place(id string) int {
	for i := range m.runs {
		if m.runs[i].ID == id {
			return i
		}
	}
	return -1
}

// BeginWith has the next comparison begin with a function.
func (m *Model) BeginWith(function string) { m.about = function }

// Compare compares two runs; with an empty first one, the variants of the second.
func (m *Model) Compare(first, second string) tea.Cmd {
	m.first, m.second, m.loading, m.trouble, m.all = first, second, true, "", nil
	runs := m.store
	a, b := m.place(first), m.place(second)
	if first != "" && (a < 0 || b < 0) {
		m.loading, m.trouble = false, "one of the runs no longer exists"
		return nil
	}
	var from, to store.Info
	if first != "" {
		from, to = m.runs[a], m.runs[b]
	}
	return func() tea.Msg {
		out := compared{first: first, second: second}
		if first != "" {
			out.all, out.err = kept.Compared(runs, from, to)
			return out
		}
		r, err := runs.Load(second)
		if out.err = err; err == nil {
			if out.all = kept.CompareVariants(r); len(out.all) == 0 {
				out.err = fmt.Errorf("run %s has no two variants of a function that replied", second)
			}
		}
		return out
	}
}

// against compares with the next older or newer run.
func (m *Model) against(by int) tea.Cmd {
	at := m.place(m.first)
	if m.first == "" {
		at = m.place(m.second)
	}
	for at += by; at >= 0 && at < len(m.runs); at += by {
		if id := m.runs[at].ID; id != m.second {
			return m.Compare(id, m.second)
		}
	}
	return msg.Complain("no other run on that side")
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case m.form != nil:
		return m.formKey(k)
	case key.Matches(k, Keys.SetUp):
		return m.openForm()
	case m.second == "":
	case key.Matches(k, Keys.Older):
		return m.against(1)
	case key.Matches(k, Keys.Newer):
		return m.against(-1)
	case key.Matches(k, Keys.Swap) && m.first != "":
		return m.Compare(m.second, m.first)
	case key.Matches(k, Keys.Left):
		m.at, m.scroll.At = max(m.at-1, 0), 0
	case key.Matches(k, Keys.Right):
		m.at, m.scroll.At = max(min(m.at+1, len(m.all)-1), 0), 0
	case m.scroll.Key(k):
	case key.Matches(k, Keys.Copy) && len(m.all) > 0:
		_, title := m.Title()
		return msg.Copy("the verdicts", title+"\n"+strings.Join(m.all[min(m.at, len(m.all)-1)].Sentences, "\n"))
	case key.Matches(k, Keys.Export) && len(m.all) > 0:
		all, folder := m.all, "exports/"+m.second
		return func() tea.Msg {
			return msg.Ask{Title: "Write the comparison as SVG and PDF to which folder?", Text: folder,
				Done: func(dir string) tea.Cmd { return func() tea.Msg { return Export{all, dir} } }}
		}
	}
	return nil
}

// What is asked of each variant where no one chooses how much.
const (
	usualCold = 30
	usualWarm = 500
)

// Help returns the keys that work now.
func (m *Model) Help() []key.Binding {
	if m.form != nil {
		return m.formHelp()
	}
	out := []key.Binding{Keys.SetUp}
	if m.second != "" {
		out = append(out, Keys.Older, Keys.Newer)
	}
	if m.first != "" {
		out = append(out, Keys.Swap)
	}
	if len(m.all) > 1 {
		out = append(out, Keys.Left)
	}
	if len(m.all) > 0 {
		out = append(out, Keys.Export)
	}
	if m.scroll.Long() {
		out = append(out, scroll.Keys.Up)
	}
	return out
}

// Keys returns all keys of the view, for the help.
func (m *Model) Keys() []key.Binding {
	if m.form != nil {
		return m.formHelp()
	}
	return []key.Binding{Keys.SetUp, Keys.Older, Keys.Newer, Keys.Swap, Keys.Left, scroll.Keys.Up,
		scroll.Keys.PageUp, Keys.Export, Keys.Copy}
}

// side returns the label of a side where that is not the run's name, to stand before it.
func (m *Model) side(i int) string {
	if len(m.all) == 0 || m.all[0].Sides[i].Label != string(rune('A'+i)) {
		return ""
	}
	return m.all[0].Sides[i].Label + " "
}

// Title returns what is compared.
func (m *Model) Title() (canvas.Style, string) {
	label := func(id string) string {
		if at := m.place(id); at >= 0 {
			of := m.runs[at].Label(time.Now())
			if note := m.runs[at].Note; note != "" {
				of += ", " + note
			}
			return of
		}
		return id
	}
	switch {
	case m.form != nil:
		return canvas.Plain, "a new comparison"
	case m.second == "":
		return canvas.Dim, "nothing compared yet"
	case m.loading:
		return canvas.Warm, "reading and comparing …"
	case m.first == "":
		return canvas.Plain, "variants in " + label(m.second)
	}
	return canvas.Plain, m.side(1) + label(m.second) + " against " + m.side(0) + label(m.first)
}
