package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
)

func sortedNames[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// printReport writes the findings as text.
func printReport(w io.Writer, page *report.Page) error {
	s, b := page.Summary, &strings.Builder{}
	state := ""
	if !s.Finished {
		state = ", unfinished"
	}
	fmt.Fprintf(b, "%s  %s  run %s  %.1f s%s\n", s.Project, s.Drill, s.Run, s.Seconds, state)
	fmt.Fprintf(b, "  %s\n", page.VerdictText())
	for _, sentence := range page.Sentences() {
		fmt.Fprintf(b, "  %s\n", sentence)
	}
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "\nlatency, ms\tn\tp50\tp95\tp99\tmax\t\n")
	for _, name := range sortedNames(s.Functions) {
		f := s.Functions[name]
		row := func(what string, x measure.Figures) {
			if x.N > 0 {
				fmt.Fprintf(t, "%s\t%d\t%s\t%s\t%s\t%s\t\n", what, x.N, Ms(x.P50), Ms(x.P95), Ms(x.P99), Ms(x.Max))
			}
		}
		row(name+" start", f.Start)
		row("cold", f.Latency.Cold)
		row("first", f.Latency.First)
		row("warm", f.Latency.Warm)
		row("warm service", f.Service.Warm)
		if f.Own != nil {
			row("own warm time", f.Own.Warm)
		}
		row("retried", f.Latency.Retried)
	}
	fmt.Fprintf(t, "\nsource\treceived\tdone\tfailed\tdead-lettered\trejected\tother\tunexpected\t\n")
	var quiet []string
	for _, name := range sortedNames(s.Sources) {
		c := s.Sources[name]
		if c == (measure.Counts{}) {
			quiet = append(quiet, name)
			continue
		}
		fmt.Fprintf(t, "%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t\n", name, c.Arrived, c.Done, c.Failed, c.DeadLettered,
			c.Rejected, c.Expired+c.Skipped+c.Unmatched+c.Abandoned, c.Unexpected)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	for _, name := range sortedNames(s.Sources) {
		if n := s.Sources[name].Published; n > 0 {
			fmt.Fprintf(b, "of the events of %s, %d were published, and are not of the drill's load\n", name, n)
		}
	}
	if len(quiet) > 0 {
		fmt.Fprintf(b, "no events at %s\n", text.List(quiet))
	}
	reportCalls(b, page)
	reportSpans(b, page)
	reportStatuses(b, s)
	reportFailures(b, page)
	reportWays(b, s)
	fmt.Fprintf(b, "\ninstances\n")
	for _, name := range sortedNames(s.Functions) {
		f := s.Functions[name]
		if f.Instances.Started == 0 && f.Attempts == 0 && f.Instances.FailedStarts == 0 {
			continue
		}
		for i, line := range report.InstanceLines(f) {
			if i == 0 {
				line = name + ": " + line
			} else {
				line = "  " + line
			}
			fmt.Fprintf(b, "  %s\n", line)
		}
	}
	if len(s.Changes) > 0 {
		fmt.Fprintf(b, "\nchanges during the run\n")
	}
	for _, c := range s.Changes {
		fmt.Fprintf(b, "  %s\n", report.ChangeText(c, page.Functions))
	}
	if len(s.Budgets) > 0 {
		fmt.Fprintf(b, "\nbudgets\n")
	}
	for _, v := range s.Budgets {
		fmt.Fprintf(b, "  %s\n", report.VerdictText(v))
	}
	printWarnings(b, s.Warnings)
	_, err := io.WriteString(w, b.String())
	return err
}

func printWarnings(b *strings.Builder, warnings []string) {
	if len(warnings) > 0 {
		fmt.Fprintf(b, "\nwarnings\n")
	}
	for _, text := range warnings {
		fmt.Fprintf(b, "  %s\n", text)
	}
}

// Ms writes a figure in milliseconds, or a dash where too few samples carry it.
func Ms(v *float64) string { return figure.Millis(v) }

// reportWays sets the ways to start beside each other.
func reportWays(b *strings.Builder, s *measure.Summary) {
	if len(s.Ways) == 0 {
		return
	}
	fmt.Fprintf(b, "\n")
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', 0)
	fmt.Fprintf(t, "ways to start, medians in ms\tn\tprepared in\tstart\t95 %% interval\tfirst reply\tboth\thow\n")
	for i := range s.Ways {
		w := &s.Ways[i]
		fmt.Fprintf(t, "%s\t%d\t%s\t%s\t%s\t%s\t%s\t%s\n", w.Function, w.Whole.N, Ms(w.Prepare), Ms(w.Start.P50),
			report.MedianBetween(&w.Start), Ms(w.Answer.P50), Ms(w.Whole.P50), w.Words)
	}
	_ = t.Flush() // into memory
}

// reportStatuses writes how the functions answered, by method and route.
func reportStatuses(b *strings.Builder, s *measure.Summary) {
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', 0)
	head := "\nstatuses\n"
	for _, name := range sortedNames(s.Functions) {
		f := s.Functions[name]
		if len(f.Statuses) == 0 {
			continue
		}
		fmt.Fprintf(t, "%s%s\t%s\n", head, name, report.StatusText(f.Statuses))
		head = ""
		for _, route := range sortedNames(f.Routes) {
			fmt.Fprintf(t, "  %s\t%s\n", route, report.StatusText(f.Routes[route].Statuses))
		}
	}
	_ = t.Flush() // into memory
}

// reportFailures names what failed, by cause.
func reportFailures(b *strings.Builder, page *report.Page) {
	if len(page.Failures) == 0 {
		return
	}
	fmt.Fprintf(b, "\nfailures (all of them: nightdrill runs show %s --failed)\n", page.Summary.Run)
	for i := range page.Failures {
		c := &page.Failures[i]
		fmt.Fprintf(b, "  %s\n", text.Harmless(report.CauseText(c)))
		for k := range c.Worst {
			fmt.Fprintf(b, "    %s\n", text.Harmless(report.FailureText(&c.Worst[k])))
		}
	}
}

// reportCalls writes what functions called.
func reportCalls(b *strings.Builder, page *report.Page) {
	rows := page.CallRows()
	if len(rows) == 0 {
		return
	}
	fmt.Fprintf(b, "\n")
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "calls to upstreams, ms\tn\teach\tp50\tp95\tof warm service\tfailed\treplayed\tmissing\t\n")
	for i := range rows {
		c := &rows[i]
		fmt.Fprintf(t, "%s → %s (%s)\t%d\t%s\t%s\t%s\t%s\t%d\t%d\t%d\t\n", c.Function, c.Upstream, c.Mode, c.Calls,
			report.CountText(c.PerInvocation), Ms(c.Ms.P50), Ms(c.Ms.P95), report.ShareText(c.Share), c.Failed,
			c.Replayed,
			c.Missing)
	}
	_ = t.Flush() // into memory
}

// mostSpanLines bounds the spans that are printed of each function.
const mostSpanLines = 12

// reportSpans writes the spans that functions sent.
func reportSpans(b *strings.Builder, page *report.Page) {
	rows := page.SpanRows()
	if len(rows) == 0 {
		return
	}
	fmt.Fprintf(b, "\n")
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', 0)
	fmt.Fprintf(t, "spans, ms\tn\teach\tp50\tp95\tof warm service\town\tfailed\n")
	n := map[string]int{}
	for i := range rows {
		s := &rows[i]
		if n[s.Function]++; n[s.Function] > mostSpanLines {
			continue
		}
		fmt.Fprintf(t, "%s  %s\t%d\t%s\t%s\t%s\t%s\t%s\t%d\n", s.Function, text.Harmless(s.Name), s.N,
			report.CountText(&s.PerInvocation), Ms(s.Ms.P50), Ms(s.Ms.P95), report.ShareText(s.Share),
			report.ShareText(s.Own), s.Failed)
	}
	_ = t.Flush() // into memory
}
