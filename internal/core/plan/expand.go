package plan

import "slices"

// Expanded is a project in which every variant is a function of its own, with a way to each: for a
// source that leads to a function, one more that leads to the variant in its place. Added functions
// and sources come after the project's own, whose indices stay.
type Expanded struct {
	Project
	Of   []int // for each function, the one that it is a variant of, or itself
	From []int // for each source, the one that it stands for, or itself
	// Warm is how many instances of a function are kept warm once it was first used; 0 for those
	// that are kept warm all the time, and for those that are not.
	Warm []int
	ways map[way]int
}

type way struct{ source, variant int }

// Expand returns the standing form of a project.
func Expand(p *Project) *Expanded {
	s := &Expanded{Project: *p, ways: map[way]int{}}
	s.Functions, s.Sources = slices.Clone(p.Functions), slices.Clone(p.Sources)
	for i := range p.Functions {
		s.Of, s.Warm = append(s.Of, i), append(s.Warm, 0)
	}
	for i := range p.Sources {
		s.From = append(s.From, i)
	}
	for i := range p.Functions {
		for _, v := range p.Functions[i].Variants {
			n := len(s.Functions)
			s.Warm = append(s.Warm, v.Limits.KeepWarm)
			v.Limits.KeepWarm, v.Parked = 0, 0 // kept warm once it was used, not before
			s.Functions, s.Of = append(s.Functions, v), append(s.Of, i)
			for from := range p.Sources {
				src := p.Sources[from]
				if !slices.ContainsFunc(src.Wires, func(w Wire) bool { return w.To == i }) {
					continue
				}
				src.Wires = slices.Clone(src.Wires)
				for w := range src.Wires {
					if src.Wires[w].To == i {
						src.Wires[w].To = n
					}
				}
				s.ways[way{from, n}] = len(s.Sources)
				s.Sources, s.From = append(s.Sources, src), append(s.From, from)
			}
		}
	}
	return s
}

// Way returns the source that stands for another and leads to a variant in place of its function;
// ok is false when the source does not lead there.
func (s *Expanded) Way(source, variant int) (to int, ok bool) {
	to, ok = s.ways[way{source, variant}]
	return to, ok
}
