package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"nightdrill/internal/core/figure"
)

// Even is what keeping an instance warm costs at some rate of events, beside what it costs without.
type Even struct {
	Traffic   float64 `json:"traffic"`    // times that of the run
	PerSecond float64 `json:"per_second"` // deliveries to the function
	Cold      float64 `json:"cold"`       // share of the deliveries that are cold without, and
	ColdWith  float64 `json:"cold_with"`  // with a warm instance
	Without   float64 `json:"without"`    // cost, or memory held in GiB s, of the function
	With      float64 `json:"with"`
}

// BreakEven is the curve of a function over rates of events.
type BreakEven struct {
	Function string `json:"function"`
	Unit     string `json:"unit"` // what With and Without are: the currency, or GiB s
	Curve    []Even `json:"curve"`
	// From is the rate in deliveries a second from which a warm instance is the cheaper one; nil where that is at
	// none of
	// the rates, or at all.
	From     *float64 `json:"from"`
	Sentence string   `json:"sentence"`
}

// Factors are the rates of a curve, as times that of the run.
var Factors = []float64{1.0 / 32, 1.0 / 16, 1.0 / 8, 1.0 / 4, 1.0 / 2, 1, 2, 4}

// EvenTries is what is tried at each of the rates.
func EvenTries(function string) []Try {
	return []Try{{Function: function, Limit: "keep_warm", Values: []string{"0", "1"}}}
}

// NewBreakEven makes the curve from a forecast at each of some rates, which tried what [EvenTries] returns; rates
// that are
// refused are left out. The error says why fewer than two are left.
func (b *Base) NewBreakEven(function string, at []*Forecast) (*BreakEven, error) {
	out := &BreakEven{Function: function, Unit: "GiB s"}
	seconds := (b.Run.LastDue - b.Run.Begins).Sub(0).Seconds()
	if seconds <= 0 {
		return nil, errors.New("all events of the run fall due at once: there is no rate to vary")
	}
	priced, why := true, ""
	at = slices.DeleteFunc(slices.Clone(at), func(f *Forecast) bool {
		for i := range f.Cells {
			if f.Cells[i].Refused != nil {
				why = *f.Cells[i].Refused
				return true
			}
			priced = priced && f.Cells[i].Functions[function].Cost != nil
		}
		return false
	})
	if len(at) < 2 {
		return nil, errors.New(why)
	}
	if priced && b.Run.Rates != nil {
		out.Unit = b.Run.Rates.Currency
	}
	value := func(x FunctionCell) float64 {
		switch {
		case priced:
			return *x.Cost
		case x.Memory != nil:
			return *x.Memory
		}
		return math.NaN()
	}
	share := func(x FunctionCell) float64 { return x.Cold / max(x.Offered, 1) }
	for _, f := range at {
		without, with := f.Cells[0].Functions[function], f.Cells[1].Functions[function]
		e := Even{Traffic: f.Traffic, PerSecond: without.Offered / seconds, Cold: share(without), ColdWith: share(with),
			Without: value(without), With: value(with)}
		if math.IsNaN(e.Without) || math.IsNaN(e.With) {
			return nil, errors.New("neither the memory nor the cost of its instances is known")
		}
		out.Curve = append(out.Curve, e)
	}
	out.say()
	return out, nil
}

// say finds from which rate on a warm instance is the cheaper one, and says so.
func (e *BreakEven) say() {
	n := len(e.Curve)
	first := n // from which on it is cheaper at all rates
	for first > 0 && e.Curve[first-1].With <= e.Curve[first-1].Without {
		first--
	}
	last := e.Curve[n-1]
	switch first {
	case n:
		e.Sentence = fmt.Sprintf("Up to %s deliveries a second, cold starts are cheaper for %s than an instance "+
			"kept warm; "+
			"%s of them are cold there.", perSecond(last.PerSecond), e.Function, figure.Percent(last.Cold))
	case 0:
		e.Sentence = fmt.Sprintf("An instance of %s kept warm is cheaper than cold starts at every rate from %s "+
			"deliveries "+
			"a second.", e.Function, perSecond(e.Curve[0].PerSecond))
	default:
		// the curves cross between two rates; as lines over the logarithm of the rate
		a, b := e.Curve[first-1], e.Curve[first]
		da, db := a.With-a.Without, b.Without-b.With
		at := a.PerSecond * math.Pow(b.PerSecond/a.PerSecond, da/(da+db))
		e.From = &at
		e.Sentence = fmt.Sprintf("From about %s deliveries a second on, an instance of %s kept warm is cheaper "+
			"than cold "+
			"starts; there, %s of them are cold without.", perSecond(at), e.Function, figure.Percent((a.Cold+b.Cold)/2))
	}
}

func perSecond(v float64) string { return figure.Ratio(v) }
