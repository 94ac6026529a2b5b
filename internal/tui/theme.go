package tui

import (
	"os"

	"nightdrill.dev/internal/tui/canvas"
)

// themeSetting is the variable of the environment that chooses the theme, dark or light; without
// it, the terminal's background does.
const themeSetting = "NIGHTDRILL_THEME"

// themeFor returns the theme for a background that is dark or not, unless one was chosen.
func themeFor(dark bool) *canvas.Theme {
	switch os.Getenv(themeSetting) {
	case "dark":
		dark = true
	case "light":
		dark = false
	}
	return canvas.NewTheme(dark)
}
