package generate

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/rng"
)

// A payload of a wanted size is made in passes: the first tells where it can
// grow and how much is missing, the next ones are made by the same chances with
// that much more at each of those places.

// growth is what is added, and where it could be.
type growth struct {
	r     *rng.Source // of its own, so that what is added changes nothing else
	text  int         // characters for each text
	items int         // for each list
	texts int         // those that could take more
	lists int

	inside bool // a list that has been added to; those in it stay as they are
}

// Size sets about how many bytes each payload is to have, up to [MostSize]; 0 for whatever comes.
func (g *Generator) Size(bytes int) { g.size = min(bytes, MostSize) }

// Extras turns on members that the schema does not name but leaves open, now and then: for
// functions that must tolerate what they do not know.
func (g *Generator) Extras(on bool) { g.extras = on }

const (
	// passes is how often a payload is made anew to come nearer to its size.
	passes = 8
	// mostGrown bounds what is added to one list.
	mostGrown = 2_000_000
)

// sized makes a value of about the wanted size.
func (g *Generator) sized(seed, n, attempt uint64, edges bool) (any, error) {
	var grow growth
	var best any
	off := -1
	for pass := range uint64(passes) {
		grow.texts, grow.lists, grow.inside, grow.r = 0, 0, false, rng.New(seed^hash("size"), n<<3|pass)
		m := g.maker(seed, n, attempt, edges)
		m.grow = &grow
		v, err := m.start()
		if r, ok := errors.AsType[*Refused](err); ok {
			return nil, r
		}
		if err != nil {
			break
		}
		missing := g.size - len(write(nil, v))
		if d := max(missing, -missing); off < 0 || d < off {
			best, off = v, d
		}
		if off <= g.size/50 || grow.texts == 0 && grow.lists == 0 {
			break
		}
		if grow.texts > 0 && (missing > 0 || grow.text > 0) {
			grow.text = max(grow.text+missing/grow.texts, 0)
		} else {
			made := max(grow.items*grow.lists, grow.lists, 1)
			each := max((g.size-missing)/made, 1)
			grow.items = min(max(grow.items+missing/each/max(grow.lists, 1), grow.items/10), mostGrown)
		}
	}
	switch {
	case best == nil:
		return nil, errNothing
	case off > g.size/4:
		return nil, &Refused{"", fmt.Sprintf("no payload of about %d bytes was found, the nearest has %d; strings "+
			"and lists with a maximum length, a pattern or a format cannot grow", g.size, len(write(nil, best)))}
	}
	return best, nil
}

// longer adds to a text that may be longer.
func (m *maker) longer(s string, h *shape) string {
	if m.grow == nil || h.maxLength != none && utf8.RuneCountInString(s) >= h.maxLength {
		return s
	}
	m.grow.texts++
	n := m.grow.text
	if h.maxLength != none {
		n = min(n, h.maxLength-utf8.RuneCountInString(s))
	}
	if n <= 0 {
		return s
	}
	var b strings.Builder
	b.Grow(len(s) + n + 10)
	b.WriteString(s)
	for b.Len() < len(s)+n {
		b.WriteByte(' ')
		b.WriteString(words[m.grow.r.Below(len(words))])
	}
	out := b.String()[:len(s)+n]
	if strings.HasSuffix(out, " ") {
		out = out[:len(out)-1] + "s"
	}
	return out
}

// more returns how many items are added to a list.
func (m *maker) more(h *shape, n, depth int) int {
	if m.grow == nil || m.grow.inside || depth > deep || h.maxItems != none && n >= h.maxItems {
		return n
	}
	known := false
	for _, t := range h.tuples {
		if t.items != nil && t.items.cost >= endless {
			return n
		}
		known = known || t.items != nil && t.items.always == nil
	}
	if !known {
		return n
	}
	m.grow.lists++
	if h.maxItems != none {
		return min(n+m.grow.items, h.maxItems)
	}
	return n + m.grow.items
}
