package tui

import (
	"testing"

	"nightdrill.dev/internal/tui/canvas"
)

// A theme that was chosen stays, whatever the terminal's background is.
func TestTheThemeIsChosen(t *testing.T) {
	draw := func(theme *canvas.Theme) string {
		c := canvas.New(4, 1, theme)
		c.Put(0, 0, canvas.Warm, "warm")
		return c.String()
	}
	for _, c := range []struct {
		setting        string
		reported, dark bool
	}{{"", true, true}, {"", false, false}, {"light", true, false}, {"dark", false, true}, {"pink", false, false}} {
		t.Setenv(themeSetting, c.setting)
		if draw(themeFor(c.reported)) != draw(canvas.NewTheme(c.dark)) {
			t.Errorf("%q on a background that is dark %v: not the theme that is dark %v", c.setting, c.reported, c.dark)
		}
	}
}
