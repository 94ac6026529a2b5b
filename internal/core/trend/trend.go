// Package trend follows the figures of a drill over the commits of its code, and finds the commits with which they
// changed.
package trend

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
)

// Run is what is known of a finished run without its records.
type Run struct {
	ID, Commit, Branch, Machine string
	Began                       time.Time
	Main                        *report.Headline
}

// Point is a figure of one commit: the median over the runs of it that follow each other. Runs whose code was not
// committed are points of their own.
type Point struct {
	Place  int       `json:"place"`  // of the commit among all of the drill, from 0
	Commit string    `json:"commit"` // "" where there is none
	Run    string    `json:"run"`    // the first
	Runs   int       `json:"runs"`
	Began  time.Time `json:"began"`
	Value  float64   `json:"value"` // in milliseconds
	values []float64
}

// Change is a change of a figure's level between two points.
type Change struct {
	At     int     `json:"at"`     // the first point after it
	Before float64 `json:"before"` // the medians of the points between this change and its neighbours
	After  float64 `json:"after"`
	Commit string  `json:"commit"`
	Text   string  `json:"sentence"`
}

// Series is a figure of a function over commits, the oldest first.
type Series struct {
	Function string   `json:"function"`
	Figure   string   `json:"figure"` // such as "warm p95"
	Unit     string   `json:"unit"`
	Points   []Point  `json:"points"`
	Changes  []Change `json:"changes"`
	median   float64  // of all points
}

// Range returns the lowest and the highest value of a series.
func (s *Series) Range() (low, high float64) {
	for i, p := range s.Points {
		if low, high = min(low, p.Value), max(high, p.Value); i == 0 {
			low, high = p.Value, p.Value
		}
	}
	return low, high
}

// Warm reports whether the figure is of warm invocations.
func (s *Series) Warm() bool { return strings.HasPrefix(s.Figure, "warm") }

// Levels calls a function for each stretch between changes, with the places of the commits from which and up to which
// it goes, and the median in it.
func (s *Series) Levels(commits int, do func(from, to int, level float64)) {
	from, level := 0, s.median
	for _, c := range s.Changes {
		to := s.Points[c.At].Place
		do(from, to, c.Before)
		from, level = to, c.After
	}
	do(from, commits, level)
}

// Latest returns the median since the last change.
func (s *Series) Latest() float64 {
	if n := len(s.Changes); n > 0 {
		return s.Changes[n-1].After
	}
	return s.median
}

// Trends is what the runs of a drill on one machine came to.
type Trends struct {
	Format  string    `json:"format"` // nightdrill.trend/1
	Drill   string    `json:"drill"`
	Branch  string    `json:"branch"` // "" for all
	Machine string    `json:"machine"`
	Runs    int       `json:"runs"`
	Commits int       `json:"commits"`
	From    time.Time `json:"from"` // when the first run began
	To      time.Time `json:"to"`   // and the last
	Series  []Series  `json:"series"`
	// Sentences are the answer: what changed, with which commit.
	Sentences []string `json:"sentences"`
}

// figures are those that are followed.
var figures = []struct {
	name string
	of   func(*report.HeadlineOf) *float64
}{
	{"start p50", func(h *report.HeadlineOf) *float64 { return h.Start }},
	{"cold p50", func(h *report.HeadlineOf) *float64 { return h.Cold }},
	{"warm p50", func(h *report.HeadlineOf) *float64 { return h.Warm }},
	{"warm p95", func(h *report.HeadlineOf) *float64 { return h.P95 }},
}

// Of computes the trends of a drill's runs on a machine; branch "" stands for all branches.
func Of(drill, branch, machine string, runs []Run) *Trends {
	t := &Trends{Format: "nightdrill.trend/1", Drill: drill, Branch: branch, Machine: machine, Series: []Series{},
		Sentences: []string{}}
	runs = slices.DeleteFunc(slices.Clone(runs), func(r Run) bool {
		return r.Main == nil || r.Machine != machine || branch != "" && r.Branch != branch
	})
	slices.SortStableFunc(runs, func(a, b Run) int { return a.Began.Compare(b.Began) })
	t.Runs = len(runs)
	places := make([]int, len(runs))
	for i := range runs {
		if i > 0 && (!committed(runs[i].Commit) || runs[i].Commit != runs[i-1].Commit) {
			t.Commits++
		}
		places[i] = t.Commits
	}
	if len(runs) > 0 {
		t.Commits, t.From, t.To = t.Commits+1, runs[0].Began, runs[len(runs)-1].Began
	}
	for _, name := range functionsOf(runs) {
		for _, f := range figures {
			s := Series{Function: name, Figure: f.name, Unit: "ms", Changes: []Change{}}
			for i := range runs {
				if v := valueOf(runs[i].Main, name, f.of); v != nil {
					s.add(&runs[i], places[i], *v)
				}
			}
			if len(s.Points) > 0 {
				t.Series = append(t.Series, s)
			}
		}
	}
	for i := range t.Series {
		t.Series[i].find(max(noise/float64(len(t.Series)), surest))
		for _, c := range t.Series[i].Changes {
			t.Sentences = append(t.Sentences, c.Text)
		}
	}
	if len(t.Sentences) == 0 {
		t.Sentences = append(t.Sentences, t.nothing())
	}
	return t
}

// nothing returns why there is no change, in a sentence.
func (t *Trends) nothing() string {
	most := 0
	for i := range t.Series {
		most = max(most, len(t.Series[i].Points))
	}
	if most < 2*fewest {
		return fmt.Sprintf("too few commits to find a change: %d, and at least %d are needed", most, 2*fewest)
	}
	return fmt.Sprintf("no change found in %s over %s", text.Plural(len(t.Series), "figure"),
		text.Plural(most, "commit"))
}

// functionsOf returns the functions of runs, those of the latest first.
func functionsOf(runs []Run) (names []string) {
	for i := len(runs) - 1; i >= 0; i-- {
		for k := range runs[i].Main.Functions {
			if name := runs[i].Main.Functions[k].Name; !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

func valueOf(m *report.Headline, function string, of func(*report.HeadlineOf) *float64) *float64 {
	for i := range m.Functions {
		if m.Functions[i].Name == function {
			return of(&m.Functions[i])
		}
	}
	return nil
}

// committed reports whether the description of a run's code names a commit that was not changed.
func committed(code string) bool { return code != "" && !strings.Contains(code, ",") }

// add adds a run's value: to its commit's point where that is the latest.
func (s *Series) add(r *Run, place int, value float64) {
	if n := len(s.Points); n > 0 && s.Points[n-1].Place == place {
		p := &s.Points[n-1]
		p.values = append(p.values, value)
		p.Runs, p.Value = p.Runs+1, median(p.values)
		return
	}
	s.Points = append(s.Points, Point{Place: place, Commit: r.Commit, Run: r.ID, Runs: 1, Began: r.Began, Value: value,
		values: []float64{value}})
}

func values(points []Point) []float64 {
	out := make([]float64, len(points))
	for i := range points {
		out[i] = points[i].Value
	}
	return out
}

// find finds the changes of a series.
func (s *Series) find(chance float64) {
	all := values(s.Points)
	s.median = median(all)
	places := changePoints(all, chance)
	for i, at := range places {
		from, to := 0, len(all)
		if i > 0 {
			from = places[i-1]
		}
		if i+1 < len(places) {
			to = places[i+1]
		}
		c := Change{At: at, Before: median(all[from:at]), After: median(all[at:to]), Commit: s.Points[at].Commit}
		c.Text = s.text(&c)
		s.Changes = append(s.Changes, c)
	}
}

func (s *Series) text(c *Change) string {
	verb, by := "rose", c.After/c.Before-1
	if by < 0 {
		verb, by = "fell", -by
	}
	p := &s.Points[c.At]
	with := "run " + p.Run
	if p.Commit != "" {
		with = "commit " + p.Commit
	}
	return fmt.Sprintf("%s: %s %s by %s, from %s to %s ms, with %s (%s)", s.Function, s.Figure, verb,
		figure.Percent(by), figure.Millis(&c.Before), figure.Millis(&c.After), with, p.Began.Format("2 Jan 2006"))
}
