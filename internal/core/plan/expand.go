package plan

import "slices"

// Expanded is a project in which every variant is a function of its own, with a way to each: for a
// source that leads to a function, one more that leads to the variant in its place. Added functions
// and sources come after the project's own, whose indices stay. A variant that has a share of a wire is among
// the project's own already.
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
			n := p.FunctionNamed(v.Name) // it has a share of what a wire takes, and is there already
			if n < 0 {
				n = len(s.Functions)
				s.Warm = append(s.Warm, v.Limits.KeepWarm)
				v.Limits.KeepWarm, v.Parked = 0, 0 // kept warm once it was used, not before
				s.Functions, s.Of = append(s.Functions, v), append(s.Of, i)
			}
			leads := func(w Wire) bool { return w.To == i || BaseName(p.Functions[w.To].Name) == p.Functions[i].Name }
			for from := range p.Sources {
				src := p.Sources[from]
				if !slices.ContainsFunc(src.Wires, leads) {
					continue
				}
				src.Wires = slices.Clone(src.Wires)
				for w := range src.Wires {
					if leads(src.Wires[w]) {
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
