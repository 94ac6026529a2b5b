package infer

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/jsondiff"
)

// Field summarises one place of the payloads.
type Field struct {
	At    string // a JSON Pointer, * for the items of a list
	N, Of int    // how often it was present, and how often it could have been
	What  string // types, and the most frequent values or the range, in words
	// Spread counts numbers in equal parts of their range; nil where there are no different ones.
	Spread []int
}

// Fields returns all places, outermost first.
func (l *Learner) Fields() []Field { return l.root.fields("", l.root.n, nil) }

// mostFields bounds the places that are listed.
const mostFields = 600

func (p *place) fields(at string, of int, out []Field) []Field {
	if len(out) >= mostFields || p.n == 0 {
		return out
	}
	out = append(out, Field{at, p.n, of, p.what(), p.spread()})
	for _, name := range slices.Sorted(maps.Keys(p.members)) {
		out = p.members[name].fields(at+"/"+jsondiff.Escape(name), p.types["object"], out)
	}
	if p.items != nil {
		out = p.items.fields(at+"/*", p.items.n, out)
	}
	return out
}

// parts is in how many parts a range is cut.
const parts = 12

func (p *place) spread() (out []int) {
	if len(p.numbers) < 2 {
		return nil
	}
	lo, hi := slices.Min(p.numbers), slices.Max(p.numbers)
	if !(hi > lo) || math.IsInf(hi-lo, 0) {
		return nil
	}
	out = make([]int, parts)
	for _, v := range p.numbers {
		out[min(int((v-lo)/(hi-lo)*parts), parts-1)]++
	}
	return out
}

func (p *place) what() string {
	var parts []string
	for _, t := range slices.Sorted(maps.Keys(p.types)) {
		if n := p.types[t]; n == p.n {
			parts = append(parts, t)
		} else {
			parts = append(parts, fmt.Sprintf("%s %s", t, Percent(n, p.n)))
		}
	}
	text := strings.Join(parts, ", ")
	switch {
	case len(p.values) > 0 && len(p.values)*perValue <= p.types["string"]+p.types["boolean"]:
		names := slices.SortedFunc(maps.Keys(p.values), func(a, b string) int {
			return cmp.Or(cmp.Compare(p.values[b], p.values[a]), strings.Compare(a, b))
		})
		text += ":"
		for i, v := range names {
			if i == 6 {
				text += fmt.Sprintf(" and %d more", len(names)-i)
				break
			}
			text += fmt.Sprintf(" %s %s", v, Percent(p.values[v], p.n))
		}
	case p.types["string"] > 0 && len(p.formats) > 0 && p.longest > 0:
		text += ": " + p.formats[0]
	case p.types["string"] > 0:
		text += ": " + between(p.shortest, p.longest) + " character"
		if p.longest > 1 {
			text += "s"
		}
	}
	if p.least != nil && !p.unbounded {
		text += fmt.Sprintf(": %s to %s", short(p.least), short(p.most))
	}
	if p.types["array"] > 0 {
		text += ": " + between(p.fewest, p.largest) + " items"
	}
	return text
}

func between(lo, hi int) string {
	if lo == hi {
		return strconv.Itoa(lo)
	}
	return fmt.Sprintf("%d to %d", lo, hi)
}

func short(r *big.Rat) string {
	if r.IsInt() {
		return r.RatString()
	}
	return strings.TrimRight(r.FloatString(4), "0")
}

// Percent formats a share.
func Percent(n, of int) string {
	switch p := float64(n) * 100 / float64(max(of, 1)); {
	case n == of:
		return "100 %"
	case p < 1:
		return "<1 %"
	case p > 99:
		return ">99 %"
	default:
		return fmt.Sprintf("%.0f %%", p)
	}
}
