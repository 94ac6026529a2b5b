package report

// Headline is the main figures of a run, for a list of runs.
type Headline struct {
	Functions []HeadlineOf `json:"functions"`
	Arrived   int          `json:"arrived"`
	Lost      int          `json:"lost"`     // failed, dead-lettered, expired
	Rejected  int          `json:"rejected"` //
	Missed    int          `json:"missed"`   // budgets
	Held      int          `json:"held"`     // budgets
}

// HeadlineOf holds the main figures of a function, in milliseconds; nil where there are too few
// samples.
type HeadlineOf struct {
	Name  string   `json:"name"`
	Start *float64 `json:"start_p50_ms"`
	Cold  *float64 `json:"cold_p50_ms"`
	Warm  *float64 `json:"warm_p50_ms"`
	P95   *float64 `json:"warm_p95_ms"`
}

// Main returns the main figures of a page.
func (p *Page) Main() *Headline {
	e := &p.Summary.Events
	m := &Headline{Arrived: e.Arrived, Lost: e.Failed + e.DeadLettered + e.Expired, Rejected: e.Rejected,
		Functions: []HeadlineOf{}}
	for _, name := range p.Functions {
		f := p.Summary.Functions[name]
		if f.Attempts > 0 {
			m.Functions = append(m.Functions, HeadlineOf{name, f.Start.P50, f.Latency.Cold.P50, f.Latency.Warm.P50,
				f.Latency.Warm.P95})
		}
	}
	m.Held, m.Missed, _ = p.budgets()
	return m
}
