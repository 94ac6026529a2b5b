package canvas

import (
	"strings"

	"charm.land/lipgloss/v2"
)

// Style names what a text is, not how it looks.
type Style uint8

const (
	Plain Style = iota
	Dim
	Faint // rules and grids
	Bold
	Warm   // the lamp: what is warm
	Cold   // frost: what is cold, or starts
	Bad    // coral: what failed or was rejected
	Good   // what was held
	Key    // a key that works here
	Field  // the name of a value in a payload or a reply
	Text   // a text in it
	Number // a number in it, true, false and null
	Active // the view that is shown
	Chosen // the line or cell under the cursor
	ChosenWarm
	ChosenCold
	ChosenBad
	styles
)

// Theme holds the looks of styles, for a dark or a light terminal.
type Theme struct {
	looks         [styles]lipgloss.Style
	before, after [styles]string // the sequences around a text
}

// NewTheme returns the theme for a terminal's background.
func NewTheme(dark bool) *Theme {
	pick := lipgloss.LightDark(dark)
	color := func(light, dark string) lipgloss.Style {
		return lipgloss.NewStyle().Foreground(pick(lipgloss.Color(light), lipgloss.Color(dark)))
	}
	t := &Theme{}
	t.looks[Plain] = lipgloss.NewStyle()
	t.looks[Dim] = color("#5d6472", "#8a93a8")
	t.looks[Faint] = color("#b9bdc6", "#3d4558")
	t.looks[Bold] = lipgloss.NewStyle().Bold(true)
	t.looks[Warm] = color("#96590a", "#f2b35a")
	t.looks[Cold] = color("#1f63a8", "#8fcbff")
	t.looks[Bad] = color("#b3302a", "#ff7d6e")
	t.looks[Good] = color("#0f6b6b", "#9bd3a5")
	t.looks[Key] = color("#96590a", "#f2b35a").Bold(true)
	t.looks[Field] = color("#4a4f8f", "#b8b4f0")
	t.looks[Text] = color("#2f6b3f", "#b9d8b4")
	t.looks[Number] = color("#7a4a6e", "#e0b4d0")
	t.looks[Active] = color("#96590a", "#f2b35a").Bold(true).Underline(true)
	t.looks[Chosen] = lipgloss.NewStyle().Reverse(true)
	t.looks[ChosenWarm] = t.looks[Warm].Reverse(true)
	t.looks[ChosenCold] = t.looks[Cold].Reverse(true)
	t.looks[ChosenBad] = t.looks[Bad].Reverse(true)
	for i := range t.looks {
		t.before[i], t.after[i], _ = strings.Cut(t.looks[i].Render("x"), "x")
	}
	return t
}

// shows reports whether a style can be seen on a space.
func (t *Theme) shows(s Style) bool { return s >= Chosen || s == Active }

// Under returns the style of a cell under the cursor.
func (s Style) Under() Style {
	switch s {
	case Warm:
		return ChosenWarm
	case Cold:
		return ChosenCold
	case Bad:
		return ChosenBad
	}
	return Chosen
}
