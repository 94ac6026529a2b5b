package report_test

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/recordtest"
	"nightdrill.dev/internal/core/report"
)

func verdictOf(p *report.Page) string {
	var parts []string
	for _, x := range p.Verdict() {
		mark := map[report.Mood]string{report.Good: "+", report.Bad: "-"}[x.Mood]
		parts = append(parts, mark+x.Text)
	}
	return strings.Join(parts, " · ")
}

// The verdict begins with the budgets, counts what was rejected or lost, and ends with whether the
// figures can be relied on.
func TestVerdict(t *testing.T) {
	busy := func(s *recordtest.Scene) { s.After = func(r *record.Run) { r.Busy = 0.95 } }
	for _, c := range []struct {
		change func(*recordtest.Scene)
		budget []string
		want   string
	}{
		{func(*recordtest.Scene) {}, nil, "+600 deliveries, all done · machine 20 % busy · nothing spoils the figures"},
		{func(*recordtest.Scene) {}, []string{"function f warm p50 < 1s", "function f p99.9 < 1s"},
			"+1 of 2 budgets met · 1 without a verdict · machine 20 % busy · nothing spoils the figures"},
		{busy, []string{"function f warm p50 < 1ms", "function f warm p50 < 1s"},
			"-1 of 2 budgets missed · machine 95 % busy · -1 warning spoils the figures"},
		{func(s *recordtest.Scene) { s.After = func(r *record.Run) { r.Finished = false } }, nil,
			"-the run did not finish · machine 20 % busy · nothing spoils the figures"},
	} {
		r := recordtest.CalmWith(c.change).Run()
		r.Budgets = c.budget
		if got := verdictOf(report.NewPage(r)); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
	if got := verdictOf(report.NewPage(recordtest.Fixture())); !strings.HasPrefix(got,
		"-the run did not finish · -1 of 4 budgets missed · 1 without a verdict · -1 of 4 fares rejected (25 %) · "+
			"-1 dead-lettered · 1 open at the end") {
		t.Errorf("%q", got)
	}
}

// The functions come worst first, each with its main cause, and every sentence about a function is
// behind its row.
func TestTheWorstFunctionIsFirst(t *testing.T) {
	p := report.NewPage(recordtest.Fixture())
	rows := p.FunctionRows()
	if len(rows) != 2 || rows[0].Name != "boarding" || !strings.HasPrefix(rows[0].Cause, "1 dead-lettered") ||
		rows[0].Failed != 1 || rows[1].Name != "quote" || rows[1].Rejected != 1 ||
		!strings.HasPrefix(rows[1].Cause, "no instance was free") {
		t.Errorf("%s: %s; %s: %s", rows[0].Name, rows[0].Cause, rows[1].Name, rows[1].Cause)
	}
	behind := 0
	for i := range rows {
		behind += len(rows[i].Findings)
	}
	for i := range p.Findings {
		if p.Findings[i].Function == "" {
			behind++
		}
	}
	if behind != len(p.Findings) || len(p.Sentences()) != behind {
		t.Errorf("%d of %d sentences are shown", behind, len(p.Findings))
	}
}
