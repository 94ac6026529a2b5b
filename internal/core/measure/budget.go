package measure

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Budget is a figure with a bound that a run must keep:
//
//	function NAME cold|first|warm [latency|service] p50|p95|p99|max OP DURATION
//	function NAME start p50|p95|p99|max OP DURATION
//	function NAME attempts|timeouts|crashes|started|peak|failed_starts|out_of_memory OP NUMBER
//	source NAME arrived|deliveries|done|failed|… OP NUMBER
//	project arrived|deliveries|done|failed|… OP NUMBER
//	chain NAME p50|p95|p99|max OP DURATION, of the source at which it begins
//
// OP is one of < <= > >= == !=.
type Budget struct {
	Text   string
	Of     string // function, source or project
	Name   string
	Kind   string // latency, service or start; "" for counts
	Class  string
	Figure string
	Op     string
	Bound  float64 // milliseconds, or a number
}

// Verdict is a budget and what was measured.
type Verdict struct {
	Text     string   `json:"text"`
	Measured *float64 `json:"measured"` // milliseconds, or a number; nil when too few samples carry it
	Held     bool     `json:"held"`
	Why      string   `json:"why,omitempty"` // why it could not be judged
}

var (
	ops            = []string{"<", "<=", ">", ">=", "==", "!="}
	classNames     = []string{"cold", "first", "warm"}
	percentiles    = []string{"p50", "p95", "p99", "max"}
	functionCounts = []string{"attempts", "timeouts", "crashes", "started", "peak", "failed_starts", "out_of_memory"}
	eventCounts    = []string{"arrived", "deliveries", "done", "failed", "dead_lettered", "rejected", "expired", "skipped", "unmatched", "abandoned", "unexpected"}
)

// ParseBudget reads the text of a budget. It does not know which functions and
// sources there are.
func ParseBudget(text string) (Budget, error) {
	b := Budget{Text: text}
	words := strings.Fields(text)
	next := func() string {
		if len(words) == 0 {
			return ""
		}
		w := words[0]
		words = words[1:]
		return w
	}
	oneOf := func(what string, allowed []string) (string, error) {
		w := next()
		if !slices.Contains(allowed, w) {
			return "", fmt.Errorf("budget %q: %q is not %s; wanted one of %s", text, w, what, strings.Join(allowed, ", "))
		}
		return w, nil
	}
	var err error
	if b.Of, err = oneOf("what a budget is about", []string{"function", "source", "project", "chain"}); err != nil {
		return b, err
	}
	if b.Of != "project" {
		if b.Name = next(); b.Name == "" {
			return b, fmt.Errorf("budget %q names no %s", text, b.Of)
		}
	}
	if b.Of == "chain" {
		b.Kind = "latency"
		if b.Figure, err = oneOf("a percentile", percentiles); err != nil {
			return b, err
		}
	} else if b.Of != "function" {
		if b.Figure, err = oneOf("a count", eventCounts); err != nil {
			return b, err
		}
	} else if err = b.functionFigure(next, oneOf); err != nil {
		return b, err
	}
	if b.Op, err = oneOf("a comparison", ops); err != nil {
		return b, err
	}
	bound := next()
	if len(words) > 0 {
		return b, fmt.Errorf("budget %q: nothing is wanted after %q", text, bound)
	}
	if b.Kind != "" {
		d, err := time.ParseDuration(bound)
		if err != nil {
			return b, fmt.Errorf("budget %q: %q is not a duration, such as 900ms", text, bound)
		}
		b.Bound = Millis(d)
		return b, nil
	}
	if b.Bound, err = strconv.ParseFloat(bound, 64); err != nil {
		return b, fmt.Errorf("budget %q: %q is not a number", text, bound)
	}
	return b, nil
}

func (b *Budget) functionFigure(next func() string, oneOf func(string, []string) (string, error)) error {
	w, err := oneOf("a figure of a function", slices.Concat(classNames, []string{"start"}, functionCounts))
	switch {
	case err != nil:
		return err
	case slices.Contains(functionCounts, w):
		b.Figure = w
		return nil
	case w == "start":
		b.Kind = w
		b.Figure, err = oneOf("a percentile", percentiles)
		return err
	}
	b.Class, b.Kind = w, "latency"
	if w, err = oneOf("a figure", slices.Concat([]string{"latency", "service"}, percentiles)); err != nil {
		return err
	}
	if w == "latency" || w == "service" {
		b.Kind = w
		w, err = oneOf("a percentile", percentiles)
	}
	b.Figure = w
	return err
}

// Holds compares a measured value with the bound.
func (b *Budget) Holds(v float64) bool {
	switch b.Op {
	case "<":
		return v < b.Bound
	case "<=":
		return v <= b.Bound
	case ">":
		return v > b.Bound
	case ">=":
		return v >= b.Bound
	case "==":
		return v == b.Bound
	}
	return v != b.Bound
}

// judge measures a budget. One that cannot be measured is not held.
func (s *Summary) judge(text string) Verdict {
	v := Verdict{Text: text}
	b, err := ParseBudget(text)
	if err != nil {
		v.Why = err.Error()
		return v
	}
	if v.Measured, v.Why = s.measure(&b); v.Measured != nil {
		v.Held = b.Holds(*v.Measured)
	}
	return v
}

func (s *Summary) measure(b *Budget) (*float64, string) {
	number := func(n int) (*float64, string) { v := float64(n); return &v, "" }
	if b.Of == "chain" {
		c := s.Chains[b.Name]
		return judged(&c.Latency, b.Figure)
	}
	if b.Of != "function" {
		c := s.Events
		if b.Of == "source" {
			c = s.Sources[b.Name]
		}
		all := []int{c.Arrived, c.Deliveries, c.Done, c.Failed, c.DeadLettered, c.Rejected, c.Expired, c.Skipped, c.Unmatched, c.Abandoned, c.Unexpected}
		return number(all[slices.Index(eventCounts, b.Figure)])
	}
	f := s.Functions[b.Name]
	if b.Kind == "" {
		all := []int{f.Attempts, f.Timeouts, f.Crashes, f.Instances.Started, f.Instances.Peak, f.Instances.FailedStarts, f.OutOfMemory}
		return number(all[slices.Index(functionCounts, b.Figure)])
	}
	figures := &f.Start
	if b.Kind != "start" {
		by := &f.Latency
		if b.Kind == "service" {
			by = &f.Service
		}
		figures = map[string]*Figures{"cold": &by.Cold, "first": &by.First, "warm": &by.Warm}[b.Class]
	}
	return judged(figures, b.Figure)
}

func judged(f *Figures, figure string) (*float64, string) {
	v := f.Figure(figure)
	if v == nil {
		return nil, fmt.Sprintf("not enough samples: %d, and %s needs %d", f.N, figure, needOf(figure))
	}
	return v, ""
}

func needOf(figure string) int {
	q := map[string]float64{"p50": 0.50, "p95": 0.95, "p99": 0.99}[figure]
	if q == 0 {
		return 1
	}
	return Need(q)
}
