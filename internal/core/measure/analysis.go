package measure

// Analysis is all that is computed of a run's records.
type Analysis struct {
	Run         *Run
	Summary     *Summary      // its warnings are added by whoever reports it
	Populations []Populations // of each function
	Outcomes    []Counts      // of the deliveries to each function
	Time        *Timeline
	At          []int32 // the place of each invocation by its ID, or -1
}

// Analyze computes the figures of a run.
func Analyze(r *Run) *Analysis {
	seen := r.scan()
	a := &Analysis{Run: r, Populations: r.collect(seen), At: seen.at}
	a.Summary = r.summarize(seen, a.Populations)
	a.Outcomes, a.Time = seen.outcomes, r.timeline(seen.at)
	return a
}

// Spreads returns where the durations of each function lie.
func (a *Analysis) Spreads() (out []FunctionSpread) {
	for i := range a.Populations {
		out = append(out, spreadOf(&a.Populations[i]))
	}
	return out
}

func spreadOf(p *Populations) FunctionSpread {
	f := FunctionSpread{Start: newSpread(&p.Start), Retried: newSpread(&p.Retried)}
	for c := range f.Latency {
		f.Latency[c] = newSpread(&p.Latency[c])
	}
	return f
}
