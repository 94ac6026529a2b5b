package findings

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/tui/msg"
)

func outlookSample() *forecast.Forecast {
	best, knee := 3, 2
	why := "f: starts seen: 3"
	f := &forecast.Forecast{Run: "base", Traffic: 1, Best: &best, Knee: &knee, Seeds: 20,
		Sentence: "f.max 2 is the cheapest.",
		Tries: []forecast.TryJSON{{Name: "f.max", Values: []string{"1", "2", "3"}},
			{Name: "f.keep_warm", Values: []string{"0", "1"}}}}
	for i := range 6 {
		ms := float64(10 * (i + 1))
		x := forecast.FunctionCell{Rejected: float64(10 - i), Offered: 100, Started: float64(i), Memory: &ms}
		x.Latency.Warm = measure.Figures{P50: &ms, P95: &ms}
		f.Cells = append(f.Cells,
			forecast.Cell{Limits: map[string]forecast.Value{"f.max": forecast.Value("123"[i/2 : i/2+1]),
				"f.keep_warm": forecast.Value("01"[i%2 : i%2+1])}, Functions: map[string]forecast.FunctionCell{"f": x},
				Kept: i > 1, Budgets: []measure.Verdict{{Text: "function f warm p95 < 40ms", Measured: &ms,
					Held: ms < 40}}})
	}
	f.Cells[4].Extrapolated, f.Cells[5].Refused = true, &why
	return f
}

// w forecasts a run: the answer, the settings with marks for those that miss a budget, are beyond what was seen or are
// refused, and what the chosen one would do; its lanes and a live trial are a key away, at every size.
func TestForecastOfARun(t *testing.T) {
	d, _ := open(t)
	d.Show(report.NewPage(sample()))
	d.press("w")
	ask, ok := d.last().(msg.Ask)
	if !ok || !strings.Contains(ask.Text, ".max=1..8 ") || !strings.Contains(ask.Text, ".keep_warm=0,1") {
		t.Fatalf("%#v", d.last())
	}
	if tell, ok := ask.Done("f.max=1..3")().(Foretell); !ok || tell.Tries != "f.max=1..3" || tell.ID != d.Shown() {
		t.Errorf("%#v", tell)
	}
	d.Forecasting("f.max=1..3", func() int { return 7 })
	if text := d.press(); !strings.Contains(text, "7 % simulated") {
		t.Error(text)
	}
	d.Forecast(outlookSample(), "The last 6 were within 9 %.")
	for _, size := range [][2]int{{160, 47}, {100, 30}, {80, 24}} {
		d.Resize(size[0], size[1]-3)
		d.outlook.figure, d.outlook.x, d.outlook.y = 0, 1, 1
		text := strings.Join(strings.Fields(d.press()), " ") // it wraps
		for _, want := range []string{"f.max 2 is the cheapest.", "within 9 %", "margin to the tightest budget",
			"f.keep_warm", "◂ the cheapest", "! misses a budget", "~ more in flight", "· not forecast",
			"f.max 2 with f.keep_warm 1"} {
			if !strings.Contains(text, want) {
				t.Errorf("at %v %q is not shown in\n%s", size, want, text)
			}
		}
		if text = d.press("m"); !strings.Contains(text, "warm p95 of f, ms") || !strings.Contains(text, "40.0 ◂") ||
			!strings.Contains(text, "10.0 !") || !strings.Contains(text, "~50.0") {
			t.Errorf("at %v:\n%s", size, text)
		}
	}
	d.press("enter")
	if x, ok := d.last().(Imagine); !ok || x.Cell != 3 {
		t.Errorf("%#v", d.last())
	}
	d.press("v")
	if ask, ok := d.last().(msg.Ask); !ok || !ask.YesNo || ask.Done("y")() != (Try{3}) {
		t.Errorf("%#v", d.last())
	}
	if text := d.press("right"); !strings.Contains(text, "Not forecast: f: starts seen: 3") {
		t.Error(text)
	}
	d.press("enter")
	if note, ok := d.last().(msg.Note); !ok || !strings.Contains(note.Text, "not forecast") {
		t.Errorf("%#v", d.last())
	}
	f := outlookSample()
	lo, hi := 30.0, 50.0
	f.Verified = &forecast.Verified{Run: "live", Cell: 3, Error: 0.04, Each: []forecast.VerifiedValue{
		{What: "f warm p95", Unit: "ms", Forecast: 40, Lo: &lo, Hi: &hi, Measured: 41.5, Within: true}}}
	d.Forecast(f, "")
	text := d.press()
	for _, want := range []string{"Tried live, run live", "4.0 %", "f warm p95, ms", "30.0 to 50.0", "41.5"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not shown in\n%s", want, text)
		}
	}
	if text := d.press("esc"); strings.Contains(text, "Tried live") {
		t.Error("esc leaves the forecast open")
	}
}
