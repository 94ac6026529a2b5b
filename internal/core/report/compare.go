package report

import (
	"fmt"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
)

// sense returns the words for a larger and a smaller figure.
func sense(c *measure.Contrast) (more, less string) {
	if c.Unit == measure.MiB {
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
		return figure.Ratio(by) + " × " + word
	case ratio < 1:
		return figure.Percent(1-ratio) + " " + word
	}
	return figure.Percent(ratio-1) + " " + word
}

// ContrastText describes a contrast, of the second side against the first.
func ContrastText(c *measure.Contrast) string {
	more, less := sense(c)
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
		return figure.Ratio(share+1) + " ×"
	}
	return figure.Percent(share)
}

// RatioBetween formats the 95 % interval of the ratio, "–" where there are too few samples. For a
// smaller figure, it is by how much.
func RatioBetween(c *measure.Contrast) string {
	switch {
	case c.Lo == nil:
		return "–"
	case c.Beyond && *c.Ratio <= 0.5:
		return figure.Ratio(1 / *c.Hi) + " – " + figure.Ratio(1 / *c.Lo)
	}
	return figure.Ratio(*c.Lo) + " – " + figure.Ratio(*c.Hi)
}

// ContrastMark describes a contrast in a few words.
func ContrastMark(c *measure.Contrast) string {
	switch {
	case c == nil || c.N[0] == 0 || c.N[1] == 0:
		return ""
	case c.Why != "":
		return "no verdict"
	case c.More > 0:
		return fmt.Sprintf("too few (needs %d more)", c.More)
	case c.Beyond:
		return ContrastText(c) + "  (" + RatioBetween(c) + ")"
	case c.Lo != nil && (*c.Lo > 1 || *c.Hi < 1): // alone it would differ, among so many figures it does not
		return fmt.Sprintf("may be chance  (%s)", RatioBetween(c))
	}
	return fmt.Sprintf("no difference  (%s)", RatioBetween(c))
}

// compared returns the sentences of a side's contrasts: first what differs, then what does not,
// then what has no verdict.
func compared(of []measure.Contrast, first, label string) (differs, rest []string) {
	var alike, few, none, beside []string
	for i := range of {
		c := &of[i]
		switch {
		case c.N[0] == 0 || c.N[1] == 0:
		case c.Why == measure.ElsewhereWhy:
			beside = append(beside, fmt.Sprintf("%s %s and %s %s", c.What, figure.Millis(c.Medians[0]),
				figure.Millis(c.Medians[1]), c.Unit))
		case c.Why != "":
			none = append(none, c.What+": "+c.Why)
		case c.More > 0:
			few = append(few, fmt.Sprintf("%s (at least %d more on each side)", c.What, c.More))
		case c.Beyond:
			text := fmt.Sprintf("%s: %s is %s than %s, %s %s against %s", capital(c.What), label, ContrastText(c),
				first,
				figure.Millis(c.Medians[1]), c.Unit, figure.Millis(c.Medians[0]))
			if c.Lo != nil {
				text += ", ratio " + RatioBetween(c)
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
	if beside != nil {
		rest = append(rest, fmt.Sprintf("%s and %s are from different machines, so there is no verdict. Medians "+
			"side by side: %s.", first, label, strings.Join(beside, ", ")))
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

// Compare compares at least two sides. reply returns the bytes of a kept reply of a side, or nil;
// it is called only where sides are of several runs.
func Compare(title string, sides []measure.Side, reply func(side int, number int32) []byte) *measure.Comparison {
	known := map[*record.Run]*measure.Analysis{}
	for _, s := range sides {
		if known[s.Run] == nil {
			known[s.Run] = measure.Analyze(s.Run)
		}
	}
	c := measure.Compare(title, sides, known, reply)
	for _, s := range sides {
		warn(known[s.Run])
		for _, w := range known[s.Run].Summary.Warnings {
			if !slices.Contains(c.Warnings, w) {
				c.Warnings = append(c.Warnings, w)
			}
		}
	}
	c.Warnings = append(c.Warnings, unlike(sides)...)
	sayComparison(c, sides[0].Run)
	return c
}

// unlike returns why sides are not quite comparable.
func unlike(sides []measure.Side) (out []string) {
	a := sides[0].Run
	other := slices.IndexFunc(sides, func(s measure.Side) bool { return s.Run != a })
	switch {
	case other < 0 && a.Cold():
		return nil
	case other < 0:
		return divided(sides)
	}
	b := sides[other].Run
	switch {
	case a.Cold() != b.Cold():
		turns, load := a, b
		if b.Cold() {
			turns, load = b, a
		}
		out = append(out,
			fmt.Sprintf("run %s started functions cold and sent single events in turns, run %s is a drill under "+
				"load: their latencies and waits are not comparable. Compare two runs of the same type",
				turns.ID, load.ID))
	case a.Drill != b.Drill:
		out = append(out, fmt.Sprintf("these are runs of different drills, %s and %s: the functions received "+
			"different events",
			a.Drill, b.Drill))
	}
	for _, how := range []string{upstreamsDiffer(a, b), spansDiffer(a, b)} {
		if how != "" {
			out = append(out, how)
		}
	}
	if measure.OtherMachine(a, b) {
		out = append(out, fmt.Sprintf("these runs are from different machines: %s; %s", a.Machine, b.Machine))
	}
	return append(out,
		"these are different runs, one after the other: machine drift between the runs counts as a difference. "+
			"Compare variants of one function in turns, by compare FUNCTION")
}

// divided returns what is to be known of sides among which one drill divided its events.
func divided(sides []measure.Side) []string {
	n := make([]int, len(sides))
	for i := range sides[0].Run.Invocations {
		for k := range sides {
			if int(sides[0].Run.Invocations[i].Function) == sides[k].Function {
				n[k]++
			}
		}
	}
	all := make([]string, len(sides))
	for k := range sides {
		all[k] = fmt.Sprintf("%s %d", sides[k].Label, n[k])
	}
	return []string{fmt.Sprintf("one run divided its events among these: %s invocations. What else the machine did "+
		"affected them alike, but each under its own load: compare service times rather than waits",
		strings.Join(all, ", "))}
}

// sayComparison adds the sentences of the comparison: what differs first.
func sayComparison(c *measure.Comparison, r *record.Run) {
	first := c.Sides[0].Label
	var rest []string
	if r.StoppedAt > 0 {
		rest = append(rest, fmt.Sprintf("The cold starts ended after %d of %d: the verdict on the starts was clear.",
			r.StoppedAt, r.EarlyOf))
	}
	for i, of := range c.Contrasts {
		differs, others := compared(of, first, c.Sides[i+1].Label)
		c.Sentences, rest = append(c.Sentences, differs...), append(rest, others...)
	}
	c.Sentences = append(c.Sentences, rest...)
	switch {
	case c.Compared == 0:
	case c.Compared == 1 && c.Differed == 0:
		c.Sentences = append(c.Sentences, "The one event got the same reply.")
	case c.Differed == 0:
		c.Sentences = append(c.Sentences, fmt.Sprintf("All %s got the same replies.",
			count(c.Compared, "event", "events")))
	default:
		c.Sentences = append(c.Sentences, fmt.Sprintf("%d of %s got a different reply.", c.Differed,
			count(c.Compared, "event", "events")))
	}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// CompareRuns compares two runs, function by function, under their labels.
func CompareRuns(a, b *record.Run, labels [2]string,
	reply func(side int, number int32) []byte) (out []*measure.Comparison) {
	for i := range a.Functions {
		k := b.Function(a.Functions[i].Name)
		if k < 0 || !a.Asked(i) || !b.Asked(k) {
			continue
		}
		out = append(out, Compare(a.Functions[i].Name, []measure.Side{{Label: labels[0], Run: a, Function: i},
			{Label: labels[1], Run: b, Function: k}}, reply))
	}
	return out
}
