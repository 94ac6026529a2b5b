package canvas

import (
	"fmt"
	"image/color"
	"math"
	"testing"

	"charm.land/lipgloss/v2"
)

// linear returns a colour's red, green and blue as light (WCAG 2.2, "relative luminance").
func linear(c color.Color) (v [3]float64) {
	r, g, b, _ := c.RGBA()
	for i, x := range []uint32{r, g, b} {
		s := float64(x) / 0xffff
		if v[i] = s / 12.92; s > 0.04045 {
			v[i] = math.Pow((s+0.055)/1.055, 2.4)
		}
	}
	return v
}

func luminance(v [3]float64) float64 { return 0.2126*v[0] + 0.7152*v[1] + 0.0722*v[2] }

// contrast returns the contrast of two luminances, from 1 to 21 (WCAG 2.2).
func contrast(a, b float64) float64 { return (max(a, b) + 0.05) / (min(a, b) + 0.05) }

// All text has a contrast of at least 4.5 to 1 on the backgrounds that terminals usually have.
// Rules and grids are not text.
func TestContrast(t *testing.T) {
	for dark, grounds := range map[bool][]string{
		true:  {"#000000", "#0b0e16", "#1c1c1c", "#1d2330"},
		false: {"#ffffff", "#fbfaf6", "#f3f4f7", "#eeeeee"},
	} {
		theme := NewTheme(dark)
		for s := Plain + 1; s < styles; s++ {
			fg := theme.looks[s].GetForeground()
			if _, none := fg.(lipgloss.NoColor); none || s == Faint {
				continue
			}
			for _, ground := range grounds {
				got := contrast(luminance(linear(fg)), luminance(linear(lipgloss.Color(ground))))
				if got < 4.5 {
					t.Errorf("dark %v: style %d has a contrast of %.2f on %s", dark, s, got, ground)
				}
			}
		}
	}
}

// Who does not see red and green apart still sees good from bad: by how light they are, or by blue
// (Viénot, Brettel and Mollon 1999, for protanopes and deuteranopes).
func TestGoodAndBadDifferForAll(t *testing.T) {
	kinds := map[string][2][3]float64{
		"protanope":   {{0.11238, 0.88762, 0}, {0.00401, -0.00401, 1}},
		"deuteranope": {{0.29275, 0.70725, 0}, {-0.02234, 0.02234, 1}},
	}
	for _, dark := range []bool{true, false} {
		theme := NewTheme(dark)
		good, bad := linear(theme.looks[Good].GetForeground()), linear(theme.looks[Bad].GetForeground())
		for name, m := range kinds {
			seen := func(v [3]float64) (yellow, blue float64) {
				dot := func(w [3]float64) float64 { return w[0]*v[0] + w[1]*v[1] + w[2]*v[2] }
				return max(dot(m[0]), 0), max(dot(m[1]), 0)
			}
			gy, gb := seen(good)
			by, bb := seen(bad)
			light := contrast(gy, by)
			hue := contrast(gb, bb)
			if light < 1.5 && hue < 1.8 {
				t.Errorf("dark %v, %s: good and bad differ by %s", dark, name,
					fmt.Sprintf("%.2f in light, %.2f in blue", light,
						hue))
			}
		}
	}
}
