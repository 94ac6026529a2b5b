package findings

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/msg"
)

// t follows the drill's figures over commits: the sentence with the commit first, then the drawings, at every size; b
// turns to a branch, x writes the same as a picture, esc goes back to the run.
func TestTrendsOfADrill(t *testing.T) {
	d, _ := open(t)
	if text := d.press("t"); !strings.Contains(text, "too few commits to find a change") {
		t.Error(text)
	}
	d.press("esc")
	runs := []store.Info{{ID: "x", Drill: "d", Finished: true, Machine: "here"}}
	for i := range 40 {
		warm := 4 + float64(i*7%10)/20
		if i >= 25 {
			warm *= 1.5
		}
		began := time.Date(2026, 3, 1+i, 6, 0, 0, 0, time.Local)
		runs = append([]store.Info{{ID: fmt.Sprint("r", i), Drill: "d", Finished: true, Machine: "here", Began: began,
			Branch: []string{"main", "fares"}[i%20/19], Commit: fmt.Sprintf("c%02d", i),
			Headline: &report.Headline{Functions: []report.HeadlineOf{{Name: "quote", Warm: &warm}}}}}, runs...)
	}
	d.Runs(runs)
	for _, size := range [][2]int{{160, 47}, {100, 30}, {80, 24}} {
		d.Resize(size[0], size[1]-3)
		text := strings.Join(strings.Fields(d.press("t")), " ")
		for _, want := range []string{"trends of d over commits, all branches, 40 runs",
			"quote: warm p50 rose by 5", "with commit c25 (26 Mar 2026)", "▲ c25", "warm p50", "40 commits",
			"1 Mar 2026"} {
			if !strings.Contains(text, want) {
				t.Errorf("at %v %q is not shown in\n%s", size, want, text)
			}
		}
		if text := d.press("b"); !strings.Contains(text, "branch fares, 2 runs") && !strings.Contains(text,
			"branch main, ") {
			t.Errorf("of a branch:\n%s", text)
		}
		d.press("b", "b")
		d.press("esc")
	}
	d.press("t", "x")
	ask, ok := d.last().(msg.Ask)
	if !ok {
		t.Fatalf("%#v", d.last())
	}
	write, ok := ask.Done("trend.svg")().(WriteTrend)
	if !ok || write.Path != "trend.svg" {
		t.Fatalf("%#v", write)
	}
	for name, want := range map[string]string{"trend.svg": "", "trend.pdf": "", "trend.png": "as .svg or .pdf"} {
		err := export.TrendFile(filepath.Join(t.TempDir(), name), write.Trends, false)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if text := d.press("esc"); strings.Contains(text, "over commits,") {
		t.Error("esc leaves the trends open")
	}
}
