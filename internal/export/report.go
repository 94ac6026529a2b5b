package export

import (
	"bytes"
	_ "embed" // the page
	"html/template"
	"io"
	"path/filepath"
	"strings"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
)

//go:embed report.html
var reportPage string

var reportTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"ms": figure.Millis, "share": report.ShareText, "each": report.CountText,
	"state": func(v measure.Verdict) string { return report.BudgetState(&v) },
	"says":  func(v measure.Verdict) string { return report.BudgetSays(&v) },
}).Parse(reportPage))

// reportRow is a row of the report's table of latencies.
type reportRow struct {
	Name, What, P50, Between, P95, P99, Max string
	N                                       int
}

// HTML writes the findings as one page that needs nothing else: pictures are in it,
// scripts are none.
func HTML(to io.Writer, s *Source) error {
	m := s.Page.Summary
	var data struct {
		*report.Page
		Began    string
		Budgets  []measure.Verdict
		Rows     []reportRow
		Charts   []template.HTML
		Beside   measure.Beside
		Outcomes []struct {
			Name   string
			Counts []int
		}
		Instances [][]string
	}
	data.Page, data.Began, data.Budgets, data.Beside = s.Page, s.Began.Format("2006-01-02 15:04:05 MST"), m.Budgets,
		m.Beside
	for _, name := range s.Page.Functions {
		f := m.Functions[name]
		for _, x := range []struct {
			what string
			of   measure.Figures
		}{{"start", f.Start}, {"cold", f.Latency.Cold}, {"first", f.Latency.First}, {"warm", f.Latency.Warm},
			{"retried", f.Latency.Retried}} {
			if x.of.N > 0 {
				data.Rows = append(data.Rows, reportRow{name, x.what, figure.Millis(x.of.P50),
					report.MedianBetween(&x.of),
					figure.Millis(x.of.P95), figure.Millis(x.of.P99), figure.Millis(x.of.Max), x.of.N})
			}
		}
		if lines := report.InstanceLines(f); f.Instances.Started > 0 {
			lines[0] = name + ": " + lines[0]
			data.Instances = append(data.Instances, lines)
		}
	}
	for _, name := range s.Page.Sources {
		c := m.Sources[name]
		data.Outcomes = append(data.Outcomes, struct {
			Name   string
			Counts []int
		}{name, []int{c.Arrived, c.Done, c.Failed, c.DeadLettered, c.Rejected, c.Expired + c.Skipped + c.Unmatched +
			c.Abandoned, c.Unexpected}})
	}
	for _, c := range Charts {
		sheet := c.draw("svg", Size{}, s)
		var b bytes.Buffer
		if err := sheet.finish(&b); err != nil {
			return err
		}
		text := b.String()
		if at := strings.Index(text, "<svg"); at > 0 { // without what stands before it in a file
			text = text[at:]
		}
		data.Charts = append(data.Charts, template.HTML(text)) //nolint:gosec // our own, its texts are escaped
	}
	return reportTemplate.Execute(to, &data)
}

// Chart is a kind of picture of a run.
type Chart struct {
	Name string
	draw func(kind string, z Size, s *Source) *sheet
}

// Charts are the pictures of a run.
var Charts = []Chart{
	{"lanes", func(kind string, z Size, s *Source) *sheet { return lanes(kind, z, s.Run, s.Page.Summary) }},
	{"ladder", func(kind string, z Size, s *Source) *sheet { return ladder(kind, z, s.Page) }},
	{"distribution", func(kind string, z Size, s *Source) *sheet { return distribution(kind, z, s.Page) }},
	{"warm-up", func(kind string, z Size, s *Source) *sheet { return warmUp(kind, z, s.Page) }},
	{"timeline", func(kind string, z Size, s *Source) *sheet { return timeline(kind, z, s.Page) }},
}

// Write draws the picture, as "svg" or "pdf".
func (c *Chart) Write(to io.Writer, kind string, z Size, s *Source) error {
	return c.draw(kind, z, s).finish(to)
}

// Comparison draws a comparison, as "svg" or "pdf".
func Comparison(to io.Writer, kind string, z Size, c *measure.Comparison) error {
	return comparison(kind, z, c).finish(to)
}

// ComparisonFile writes a comparison to a file, as SVG or PDF by its ending.
func ComparisonFile(path string, c *measure.Comparison, over bool) error {
	var b bytes.Buffer
	if err := Comparison(&b, strings.TrimPrefix(filepath.Ext(path), "."), Size{}, c); err != nil {
		return err
	}
	return Put(path, b.Bytes(), over)
}
