package demo

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"time"
)

// tides computes the tide table of a day: when the water is highest and lowest
// at the quay, from a sum of waves.
type tides struct {
	table []float64 // sines, computed at the start
}

// waves are the constituents of the tide at Brackwater: speed in degrees an
// hour, height in metres, phase in degrees. The harbour is made up, and so are
// heights and phases.
var waves = [][3]float64{{28.9841, 2.31, 41}, {30, 0.74, 78}, {28.4397, 0.46, 17}, {15.0411, 0.11, 190},
	{13.943, 0.09, 33}, {57.9682, 0.08, 120}}

func newTides() http.Handler {
	for range 6 { // the gauge at the quay swings for a while after it is switched on: a look into the start finds this
		time.Sleep(25 * time.Millisecond)
	}
	t := &tides{table: make([]float64, 360_000)}
	for i := range t.table {
		t.table[i] = math.Sin(float64(i) / float64(len(t.table)) * 2 * math.Pi)
	}
	return t
}

func (t *tides) sin(degrees float64) float64 {
	n := len(t.table)
	i := int(math.Mod(degrees, 360) / 360 * float64(n))
	return t.table[(i%n+n)%n]
}

// height returns the water at the quay, in metres.
func (t *tides) height(at time.Time) (sum float64) {
	hours := float64(at.Unix()) / 3600
	for _, w := range waves {
		sum += w[1] * t.sin(w[0]*hours+w[2]+90)
	}
	return sum
}

func (t *tides) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e struct {
		Due time.Time `json:"due"`
	}
	if err := json.NewDecoder(r.Body).Decode(&e); err != nil || e.Due.IsZero() {
		http.Error(w, "expected the event of a schedule, with its due time", http.StatusBadRequest)
		return
	}
	type turn struct {
		At     time.Time `json:"at"`
		Metres float64   `json:"metres"`
		What   string    `json:"what"`
	}
	var turns []turn
	const step = 10 * time.Second
	before, here := t.height(e.Due.Add(-step)), t.height(e.Due)
	for at := e.Due.Add(step); at.Before(e.Due.Add(24 * time.Hour)); at = at.Add(step) {
		next := t.height(at)
		if (here > before && here >= next || here < before && here <= next) && (len(turns) == 0 ||
			at.Sub(turns[len(turns)-1].At) > time.Hour) {
			what := "low water"
			if here > before {
				what = "high water"
			}
			turns = append(turns, turn{at.Add(-step), math.Round(here*100) / 100, what})
		}
		before, here = here, next
	}
	fmt.Printf("the table from %s on has %d turns\n", e.Due.Format(time.RFC3339), len(turns))
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"from": e.Due, "turns": turns})
}
