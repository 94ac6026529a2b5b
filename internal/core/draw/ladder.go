package draw

import (
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
)

// Rung is a function's way from being wanted to its first answer, phase by phase.
type Rung struct {
	Function string
	N        int // starts
	Parts    []Part
	Own      []Part // phases of the first answer, as the function reports them
	Total    float64
}

// Part is a phase with the median time that it takes, and the 95 % interval of that.
type Part struct {
	Name     string
	From, To float64 // ms, from the start of the rung
	Lo, Hi   float64 // of its length; 0 where too few samples carry them
	Start    bool    // it is part of the start, and not of the answer
}

// Ladder returns the rungs of all functions that were started. Where there are too few
// starts for a median, the rung has no parts.
func Ladder(p *report.Page) (out []Rung) {
	for _, name := range p.Functions {
		f := p.Summary.Functions[name]
		ph := &f.Phases
		r := Rung{Function: name, N: f.Start.N}
		if r.N == 0 {
			continue
		}
		add := func(what string, x measure.Figures, start bool) {
			if x.P50 == nil {
				return
			}
			part := Part{Name: what, From: r.Total, To: r.Total + *x.P50, Start: start}
			if x.P50Lo != nil {
				part.Lo, part.Hi = *x.P50Lo, *x.P50Hi
			}
			r.Parts, r.Total = append(r.Parts, part), part.To
		}
		add("spawn", ph.Spawn, true)
		if ph.Import.P50 != nil && ph.Import.N == ph.Boot.N {
			add("interpreter", ph.Interpreter, true)
			add("loader", ph.Loader, true)
			add("import", ph.Import, true)
		} else {
			add("boot", ph.Boot, true)
		}
		add("spawn, boot", ph.Both, true)
		began := r.Total
		add("first reply", ph.Answer, false)
		for _, own := range ph.Own {
			if own.Took.P50 != nil && began+*own.Took.P50 <= r.Total*1.01 {
				r.Own = append(r.Own, Part{Name: own.Name, From: began, To: began + *own.Took.P50})
				began += *own.Took.P50
			}
		}
		out = append(out, r)
	}
	return out
}
