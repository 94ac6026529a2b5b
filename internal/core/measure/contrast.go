package measure

import (
	"fmt"
	"math"
	"strings"

	"nightdrill/internal/core/stats"
)

// Contrast compares a figure of two sides: the ratio of their medians, with its 95 % interval, and
// whether that is more than noise.
type Contrast struct {
	What    string      `json:"what"`
	N       [2]int      `json:"n"`
	Units   [2]int      `json:"units"`        // that count: invocations or instances; messages of one batch count once
	Medians [2]*float64 `json:"medians"`      // milliseconds, or MiB
	Ratio   *float64    `json:"ratio"`        // of the second median to the first; nil where there are too few samples
	Lo      *float64    `json:"ratio_lo"`     // nil where there are too few samples for the interval
	Hi      *float64    `json:"ratio_hi"`     //
	P       *float64    `json:"p"`            // of the Mann-Whitney test
	Beyond  bool        `json:"beyond_noise"` // a difference was detected
	Least   *float64    `json:"least_seen"`   // where none was: a larger one, as a share, would have been
	// samples on each side, at least, where there is no verdict; 0 elsewhere
	More int    `json:"needs_more"`
	Why  string `json:"why,omitempty"` // why there is no verdict, if not for lack of samples

	of *stats.Comparison
}

// contrast compares two populations.
func contrast(what string, a, b *stats.Population, s stats.Sampling) Contrast {
	c := Contrast{What: what, N: [2]int{a.N(), b.N()}, Units: [2]int{a.Units(), b.Units()}}
	if a.N() == 0 || b.N() == 0 {
		return c
	}
	got := stats.Compare(a, b, s)
	c.of, c.P = &got, &got.P
	for i, p := range []*stats.Population{a, b} {
		if median := p.Percentile(0.5, s); median.OK {
			ms := Millis(median.Value)
			c.Medians[i] = &ms
		}
	}
	if got.Ratio > 0 {
		c.Ratio = &got.Ratio
	}
	if got.Interval {
		c.Lo, c.Hi = &got.Lo, &got.Hi
	}
	return c
}

// judgeAll rules on all contrasts of a comparison together.
func judgeAll(all []*Contrast) {
	var tested []*Contrast
	var p, least []float64
	for _, c := range all {
		switch {
		case c.of == nil || c.Why != "":
		case c.Ratio == nil:
			c.More = c.of.More(stats.Noise)
		default:
			tested, p, least = append(tested, c), append(p, c.of.P), append(least, c.of.Least)
		}
	}
	for i, ruling := range stats.Judge(p, least) {
		c := tested[i]
		c.Beyond = ruling.Differs && (c.Lo == nil || *c.Lo > 1 || *c.Hi < 1)
		if c.Beyond {
			continue
		}
		if detectable := c.of.Detectable(ruling.Alpha); ruling.Able && !math.IsInf(detectable, 1) {
			share := detectable - 1
			c.Least = &share
		} else {
			c.More = c.of.More(ruling.Alpha)
		}
	}
}

// sense returns the words for a larger and a smaller figure.
func (c *Contrast) sense() (more, less string) {
	if c.What == "peak memory" {
		return "more", "less"
	}
	return "slower", "faster"
}

// TimesText describes how much larger or smaller a ratio makes a figure: as a multiple from 2 on,
// as a share below.
func TimesText(ratio float64, more, less string) string {
	word, by := more, ratio
	if ratio < 1 {
		word, by = less, 1/ratio
	}
	switch {
	case by >= 2:
		return RatioText(by) + " × " + word
	case ratio < 1:
		return Percent(1-ratio) + " " + word
	}
	return Percent(ratio-1) + " " + word
}

// Verdict describes a contrast, of the second side against the first.
func (c *Contrast) Verdict() string {
	more, less := c.sense()
	switch {
	case c.N[0] == 0 || c.N[1] == 0:
		return "not measured on both sides"
	case c.Why != "":
		return c.Why
	case c.More > 0:
		return fmt.Sprintf("too few samples (at least %d more on each side)", c.More)
	case c.Beyond:
		return TimesText(*c.Ratio, more, less)
	}
	return fmt.Sprintf("no difference detected (one above %s would have been)", shareText(*c.Least))
}

// shareText formats a share as a percentage, or as a multiple where it is large.
func shareText(share float64) string {
	if share >= 2 {
		return RatioText(share+1) + " ×"
	}
	return Percent(share)
}

// Between formats the 95 % interval of the ratio, "–" where there are too few samples. For a
// smaller figure, it is by how much.
func (c *Contrast) Between() string {
	switch {
	case c.Lo == nil:
		return "–"
	case c.Beyond && *c.Ratio <= 0.5:
		return RatioText(1 / *c.Hi) + " – " + RatioText(1 / *c.Lo)
	}
	return RatioText(*c.Lo) + " – " + RatioText(*c.Hi)
}

// Mark describes a contrast in a few words.
func (c *Contrast) Mark() string {
	switch {
	case c == nil || c.N[0] == 0 || c.N[1] == 0:
		return ""
	case c.Why != "":
		return "no verdict"
	case c.More > 0:
		return fmt.Sprintf("too few (needs %d more)", c.More)
	case c.Beyond:
		return c.Verdict() + "  (" + c.Between() + ")"
	}
	return fmt.Sprintf("no difference  (%s)", c.Between())
}

// compared returns the sentences of a side's contrasts: first what differs, then what does not,
// then what has no verdict.
func compared(of []Contrast, first, label string) (differs, rest []string) {
	var alike, few, none []string
	for i := range of {
		c := &of[i]
		unit := "ms"
		if c.What == "peak memory" {
			unit = "MiB"
		}
		switch {
		case c.N[0] == 0 || c.N[1] == 0:
		case c.Why != "":
			none = append(none, c.What+": "+c.Why)
		case c.More > 0:
			few = append(few, fmt.Sprintf("%s (at least %d more on each side)", c.What, c.More))
		case c.Beyond:
			text := fmt.Sprintf("%s: %s is %s than %s, %s %s against %s", capital(c.What), label, c.Verdict(), first,
				MillisText(c.Medians[1]), unit, MillisText(c.Medians[0]))
			if c.Lo != nil {
				text += ", ratio " + c.Between()
			}
			differs = append(differs, text+".")
		default:
			alike = append(alike, fmt.Sprintf("%s (one above %s would have been)", c.What, shareText(*c.Least)))
		}
	}
	if alike != nil {
		rest = append(rest, fmt.Sprintf("%s and %s: no difference detected in %s.", first, label,
			strings.Join(alike, ", ")))
	}
	if few != nil {
		rest = append(rest, fmt.Sprintf("%s and %s: too few samples to compare %s.", first, label,
			strings.Join(few, ", ")))
	}
	for _, text := range none {
		rest = append(rest, fmt.Sprintf("%s and %s: no verdict on %s.", first, label, text))
	}
	return differs, rest
}
