package plan

import (
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/route"
)

// A wire that divides what it takes among several functions is several wires here, one after the other: each
// takes the same, and has a share in percent; together they have 100. Routes holds all of them, and Divide keeps
// one.

// parts returns the wires that a divided wire became, from its first to one after its last.
func (s *Source) parts(first int) (last int) {
	for sum := 0; first < len(s.Wires); first++ {
		if sum += s.Wires[first].Share; sum >= 100 {
			return first + 1
		}
	}
	return first
}

// Part returns the place of a wire among the parts of one that divides what it takes, from 0.
func (s *Source) Part(wire int) int {
	for first := 0; first <= wire; {
		last := first + 1
		if s.Wires[first].Share > 0 {
			last = s.parts(first)
		}
		if wire < last {
			return wire - first
		}
		first = last
	}
	return 0
}

// Only returns the conditions of the source's only wire; nil where it has none or several.
func (s *Source) Only() *route.When {
	if len(s.Wires) == 1 || len(s.Wires) > 1 && s.Wires[0].Share > 0 && s.parts(0) == len(s.Wires) {
		return &s.Wires[0].When
	}
	return nil
}

// Divides reports whether a wire of the source divides what it takes.
func (s *Source) Divides() bool {
	for i := range s.Wires {
		if s.Wires[i].Share > 0 {
			return true
		}
	}
	return false
}

// DividePayload is Divide by the id of a payload's event, or by the number of a request, which has none.
func (p *Project) DividePayload(source int, routes, seed uint64, pl *payload.Payload, number int32, round int) uint64 {
	switch {
	case !p.Sources[source].Divides():
		return routes
	case pl.Event != nil:
		return p.Divide(source, routes, seed, pl.Event.ID, round)
	}
	return p.Divide(source, routes, seed, strconv.Itoa(int(number)), round)
}

// Divide returns the routes that remain for one event, which goes to one part of each divided wire that takes it:
// by a hash of the seed, the event's id and the round in which its set is repeated, so that the same event takes
// the same way each time.
func (p *Project) Divide(source int, routes, seed uint64, id string, round int) uint64 {
	src := &p.Sources[source]
	for first := 0; first < len(src.Wires); {
		if src.Wires[first].Share == 0 {
			first++
			continue
		}
		last := src.parts(first)
		group := uint64(1)<<last - uint64(1)<<first
		if routes&group != 0 {
			at := int(fair(seed, src.Name, first, id, round) % 100)
			chosen := first
			for ; at >= src.Wires[chosen].Share; chosen++ {
				at -= src.Wires[chosen].Share
			}
			routes = routes&^group | 1<<chosen
		}
		first = last
	}
	return routes
}

// fair returns a hash whose every part is evenly distributed, also for ids that differ in a digit alone.
func fair(seed uint64, source string, wire int, id string, round int) uint64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %d %d %s %s", seed, wire, round, source, id)
	x := h.Sum64() // what follows is the finalizer of SplitMix64 (Steele, Lea, Flood 2014)
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// shareWords is what a wire's description begins with, where it has a share.
func (w *Wire) shareWords() string {
	if w.Share == 0 {
		return ""
	}
	return fmt.Sprintf("%d %% of ", w.Share)
}

// BaseName returns the name of the function that one is a variant of, or its own.
func BaseName(function string) string {
	base, _, _ := strings.Cut(function, "@")
	return base
}
