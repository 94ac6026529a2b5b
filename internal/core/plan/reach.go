package plan

import "slices"

// Reach returns the indices of the sources that the payloads of a set go to: those that the set
// names, else those that drills feed with it, else every source of a kind that can take them.
// Sources without wires only store what arrives, and are never among them. said is true where the
// set names them itself.
func (p *Project) Reach(set int) (sources []int, said bool) {
	s := &p.Sets[set]
	if s.Reaches != nil {
		for _, name := range s.Reaches {
			if i := p.SourceNamed(name); i >= 0 {
				sources = append(sources, i)
			}
		}
		return sources, true
	}
	for _, d := range p.Drills {
		for _, f := range d.Feeds {
			if f.Set == set && !slices.Contains(sources, f.Source) {
				sources = append(sources, f.Source)
			}
		}
	}
	if sources != nil {
		return sources, false
	}
	for i := range p.Sources {
		if p.CanTake(i, set) && len(p.Sources[i].Wires) > 0 {
			sources = append(sources, i)
		}
	}
	return sources, false
}

// CanTake reports whether the payloads of a set have the form that a source takes: HTTP requests at
// an http source, events at all others but schedules, which make their own.
func (p *Project) CanTake(source, set int) bool {
	s := &p.Sets[set]
	if len(s.Payloads) == 0 || p.Sources[source].Kind == Schedule {
		return false
	}
	return (s.Payloads[0].Request != nil) == (p.Sources[source].Kind == HTTP)
}
