package tui

import (
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
)

// stance is how a function stands, in words of several lengths, the longest
// first: what it has, and what its next event would meet.
type stance struct {
	style canvas.Style
	words [rosterLevels]string
}

const rosterLevels = 4

// rosterWidths are the cells that each length of words gets. They do not go by
// the words of the moment, so that nothing moves while figures change.
var rosterWidths = [rosterLevels]int{48, 37, 21, 8}

const rosterGap = 3

// rosterLevel returns the longest words for which functions of these names have
// room beside each other; rosterLevels where none have.
func rosterLevel(names []string, w int) int {
	sum := (len(names) - 1) * rosterGap
	for _, n := range names {
		sum += ansi.StringWidth(n) + 1
	}
	for level, room := range rosterWidths {
		if sum+room*len(names) <= w {
			return level
		}
	}
	return rosterLevels
}

// drawRoster draws for each function what its next event would meet.
func (s *shell) drawRoster(c *canvas.Canvas, y int) {
	looks := s.drill.Looks()
	var names, versions []string
	var all []stance
	for i := range s.plan.Functions {
		var state session.State
		if i < len(s.states) {
			state = s.states[i]
		}
		if s.plan.Of[i] != i && (s.running != nil || state.Look.Ready+state.Look.Starting == 0 &&
			state.Failure == nil) {
			continue // a variant that no one has asked for
		}
		x := stands(&state)
		if s.running != nil {
			var look engine.Stats
			if state.Version = ""; i < len(looks) {
				look = looks[i]
			}
			x = meets(&look, s.drill.Now())
		}
		name, version := s.plan.Functions[i].Name, state.Version
		if _, port, err := net.SplitHostPort(s.stand.VariantAddress(name)); err == nil {
			version = strings.TrimSpace(version + " :" + port)
		}
		names, versions, all = append(names, name), append(versions, version), append(all, x)
	}
	right := s.w - 1
	if checks := s.stand.Checks(); checks.On && s.running == nil {
		style, words := canvas.Dim, checks.Words()
		switch {
		case len(checks.Broken()) > 0:
			style, words = canvas.Bad, "✗ "+words+" !"
		case words != "" && !checks.Going && checks.All > 0:
			style, words = canvas.Warm, "✓ "+words
		}
		if words == "" {
			words = "checks on save"
		}
		// as wide as its longest usual form, so that nothing beside it moves
		words = ansi.Truncate(words, max(s.w/3, 20), "…")
		c.Right(right, y, style, words)
		right -= max(ansi.StringWidth(words), 18) + rosterGap
	}
	level := rosterLevel(names, right-1)
	if level == rosterLevels { // as close as it goes
		x, whole := 1, 1-rosterGap
		for i, name := range names {
			whole += ansi.StringWidth(name+all[i].words[level-1]) + rosterGap
		}
		if whole > right-1 {
			s.drawSum(c, y, right, all)
			return
		}
		for i, name := range names {
			text := all[i].words[level-1]
			x = c.Put(c.Put(x, y, canvas.Bold, name)+1, y, all[i].style, text) + rosterGap - 1
		}
		return
	}
	spare := right - 1 - (len(names)-1)*rosterGap
	for _, n := range names {
		spare -= ansi.StringWidth(n) + 1 + rosterWidths[level]
	}
	x := 1
	for i, name := range names {
		edge := x + ansi.StringWidth(name) + 1 + rosterWidths[level]
		if spare > 0 { // for a version, and for what does not start, and why
			edge += spare / len(names)
		}
		at := c.Put(x, y, canvas.Bold, name) + 1
		if v := versions[i]; v != "" && level == 0 {
			at = c.Put(at, y, canvas.Dim, v) + 1
		}
		c.PutUpTo(at, y, edge, all[i].style, all[i].words[level])
		x = edge + rosterGap
	}
}

// drawSum counts how the functions stand, where there is no room for each.
func (s *shell) drawSum(c *canvas.Canvas, y, right int, all []stance) {
	x := c.Put(1, y, canvas.Bold, fmt.Sprintf("%d functions", len(all)))
	for _, kind := range []struct {
		style canvas.Style
		words string
	}{{canvas.Bad, "✗ failing"}, {canvas.Plain, "busy"}, {canvas.Warm, "warm"}, {canvas.Cold, "cold"}} {
		n := 0
		for i := range all {
			if all[i].style == kind.style {
				n++
			}
		}
		if n > 0 {
			x = c.PutUpTo(x+2, y, right, kind.style, fmt.Sprintf("%d %s", n, kind.words))
		}
	}
}

// standing describes a function's state, in the session or in a drill, the longest form first.
func (s *shell) standing(fn int) (canvas.Style, []string) {
	var x stance
	if looks := s.drill.Looks(); s.running != nil && fn < len(looks) {
		x = meets(&looks[fn], s.drill.Now())
	} else if s.running == nil && fn < len(s.states) {
		x = stands(&s.states[fn])
	}
	return x.style, x.words[:]
}

// stands returns what the next event of a function would meet in the session.
func stands(x *session.State) stance {
	out := meets(&x.Look, x.Now)
	say := func(style canvas.Style, long, short string) stance {
		return stance{style, [rosterLevels]string{long, long, short, short}}
	}
	switch {
	case x.Doing != "":
		return say(canvas.Warm, x.Doing+"…", x.Doing)
	case x.Failure != nil && x.Look.Ready > 0:
		return say(canvas.Bad, "the new version fails, the old one serves", "✗ fails, old serves")
	case x.Failure != nil:
		head, _, _ := strings.Cut(strings.TrimPrefix(x.Failure.Text, x.Name+" "), ";")
		return say(canvas.Bad, "✗ "+head, "✗ "+head)
	case x.Away != "":
		return say(out.style, "attached at "+x.Away, "attached")
	}
	var more []string
	if x.Look.Outdated > 0 {
		out.style, more = canvas.Warm, append(more, "being replaced")
	}
	port := strings.TrimPrefix(x.Address, "127.0.0.1")
	if x.Held {
		more = append(more, "held")
	}
	if len(x.Env) > 0 {
		more = append(more, "env set")
	}
	if x.Address != "" && x.Look.Outdated == 0 {
		out.words[0] = strings.Replace(out.words[0], ",", " at "+port+",", 1)
	}
	for i, m := range more {
		for k := range out.words {
			if k < 2 {
				out.words[k] += ", " + m
			} else if i == 0 { // the first of them is what matters
				out.words[k] = m
				if m == "held" && port != "" { // where the debugger is attached; H is the key that holds
					out.words[k] = map[bool]string{false: "held " + port, true: "H " + port}[k == rosterLevels-1]
				}
			}
		}
	}
	return out
}

// meets returns what the next event of a function would meet.
func meets(l *engine.Stats, now clock.Time) stance {
	say := func(style canvas.Style, long, mid, short string) stance {
		return stance{style, [rosterLevels]string{long, long, mid, short}}
	}
	ready := fmt.Sprintf("%d warm", l.Ready)
	switch {
	case l.Idle > 0 && l.IdleStop != clock.Never:
		in := briefly(max(l.IdleStop.Sub(now), 0))
		return say(canvas.Warm, fmt.Sprintf("%s, warm, idle stop in %s", instances(l.Ready), in), ready+", stop in "+in,
			ready)
	case l.Idle > 0:
		return say(canvas.Warm, instances(l.Ready)+", warm", ready, ready)
	case l.Ready > 0 && l.Waiting > 0:
		return say(canvas.Plain, fmt.Sprintf("%s, all busy, %d waiting", instances(l.Ready), l.Waiting),
			fmt.Sprintf("%d busy, %d waiting", l.Ready, l.Waiting), fmt.Sprintf("%d busy", l.Ready))
	case l.Ready > 0:
		return say(canvas.Plain, instances(l.Ready)+", all busy", fmt.Sprintf("%d busy", l.Ready),
			fmt.Sprintf("%d busy", l.Ready))
	case l.Starting > 0:
		starting := fmt.Sprintf("%d starting", l.Starting)
		return say(canvas.Cold, starting, starting, fmt.Sprintf("+%d", l.Starting))
	}
	return say(canvas.Cold, "no instance, next: cold", "next: cold", "cold")
}

// briefly returns a time that is counted down.
func briefly(d time.Duration) string {
	if d >= 10*time.Second {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

func instances(n int) string {
	if n == 1 {
		return "1 instance"
	}
	return fmt.Sprintf("%d instances", n)
}
