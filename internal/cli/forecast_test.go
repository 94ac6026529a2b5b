package cli

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill/internal/core/forecast"
)

// A run is forecast under other limits, one of them is tried live, and how far off that was is kept; what is wrong is
// said before anything runs.
func TestForecast(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "tide.py"), "import time\ndef tide(event):\n    time.sleep(0.01)\n    return 'high'\n")
	put(t, filepath.Join(dir, "asks.har"), `{"log": {"version": "1.2", "entries": [{"request": {"method": "GET", "url":
		"http://x/tide", "headers": []}, "response": {"status": 0, "headers": [], "content": {}}}]}}`)
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  tide: {handler: "tide.py:tide", start_timeout: 60s, concurrency: {max: 6}, keep_warm: 2, idle_after: 20s}
sources:
  tides: {kind: http, wait: 60s, wires: [{to: tide}]}
payloads:
  asks: {recording: asks.har}
drills:
  night:
    feeds: [{source: tides, payloads: asks, arrive: [{steady: 60/s, for: 1s}]}]
    changes: [{at: 500ms, limits: {tide: {concurrency: {max: 5}}}}]
    budgets: [source tides rejected == 0]
`)
	forecastOf := func(want int, args ...string) (string, string) {
		t.Helper()
		out, errs, code := nightdrill(t, append([]string{"--project", dir, "forecast"}, args...)...)
		if code != want {
			t.Fatalf("%v: exit %d, want %d\n%s%s", args, code, want, out, errs)
		}
		return out, errs
	}
	_, errs := forecastOf(wrongUse, "night", "--try", "tide.max=1..3")
	if !strings.Contains(errs, "no finished run to forecast from; make one: nightdrill run night") {
		t.Error(errs)
	}
	if out, errs, code := nightdrill(t, "--project", dir, "run", "night"); code != ok {
		t.Fatalf("%s%s", out, errs)
	}
	for _, x := range [][]string{
		{"nothing to try", "night"},
		{`"tide.max" is not FUNCTION.LIMIT=VALUES`, "night", "--try", "tide.max"},
		{`unknown function "tied"`, "night", "--try", "tied.max=2"},
		{`unknown limit "maximum"`, "night", "--try", "tide.maximum=2"},
		{"more than 400 settings", "night", "--try", "tide.max=1..30", "--try", "tide.keep_warm=0..30"},
		{"not a factor", "night", "--traffic", "xx"},
		{"leave --traffic out", "night", "--traffic", "x2", "--verify"},
		{"give both", "night", "--try", "tide.max=2", "--setting", "tide.max=2"},
		{"none of the settings", "night", "--try", "tide.max=2", "--verify", "--setting", "tide.max=3"},
		{"by itself", "night", "--break-even", "tide", "--traffic", "x2"},
		{"--seeds must be", "night", "--try", "tide.max=2", "--seeds", "0"},
		{"no run", "someday", "--try", "tide.max=2"},
	} {
		if _, errs := forecastOf(wrongUse, x[1:]...); !strings.Contains(errs, x[0]) {
			t.Errorf("%v: %s", x[1:], errs)
		}
	}
	out, _ := forecastOf(ok, "night", "--try", "tide.max=1,2,4", "--try", "tide.keep_warm=0,2", "--seeds", "3",
		"--verify", "--setting", "tide.max=4", "--setting", "tide.keep_warm=2", "--json", filepath.Join(dir, "f.json"))
	for _, want := range []string{"Tried live: tide.max 4 with tide.keep_warm 2", "tide started", "Median error",
		"changes that the drill makes to it are left out", "keep_warm is 2, but a max of 1"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	var raw struct {
		Format   string
		Run      string
		Cells    []struct{ Limits map[string]any }
		Sentence string
		Verified struct {
			Cell    int
			Figures []forecast.VerifiedValue
		}
	}
	if err := json.Unmarshal([]byte(read(t, filepath.Join(dir, "f.json"))), &raw); err != nil {
		t.Fatal(err)
	}
	if raw.Format != forecast.Format || raw.Run == "" || len(raw.Cells) != 6 || raw.Sentence == "" ||
		raw.Cells[5].Limits["tide.max"] != 4.0 || raw.Verified.Cell != 5 || len(raw.Verified.Figures) < 3 {
		t.Errorf("%+v", raw)
	}
	if out, _ := forecastOf(ok, "night", "--try", "tide.max=4"); !strings.Contains(out,
		"The last forecast that was tried live was within") {
		t.Error(out)
	}
	if out, _ := forecastOf(ok, "night", "--break-even", "tide", "--seeds", "2"); !strings.Contains(out,
		"GiB s without") {
		t.Error(out)
	}
	if _, errs := forecastOf(wrongUse, "night", "--break-even", "tied"); !strings.Contains(errs,
		`unknown function "tied"`) {
		t.Error(errs)
	}
	// the last run is the one that was tried live: nothing was changed meanwhile
	if out, _ := forecastOf(ok, "last", "--traffic", "x2"); strings.Contains(out, "are left out") {
		t.Error(out)
	}
}
