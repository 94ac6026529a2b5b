package forecast

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/figure"
)

// Even is what two values of a limit cost at some rate of events.
type Even struct {
	Traffic   float64 `json:"traffic"`    // times that of the run
	PerSecond float64 `json:"per_second"` // deliveries to the function
	Cold      float64 `json:"cold"`       // share of the deliveries that are cold with the first value, and
	ColdWith  float64 `json:"cold_with"`  // with the second, such as a warm instance
	Without   float64 `json:"without"`    // cost, or memory held in GiB s, of the function
	With      float64 `json:"with"`
}

// BreakEven compares two values of a limit over rates of events.
type BreakEven struct {
	Function string `json:"function"`
	Limit    string `json:"limit"`  // such as keep_warm
	Without  string `json:"value"`  // of the limit, which Even.Without is with,
	With     string `json:"beside"` // and the one that Even.With is
	Unit     string `json:"unit"`   // what costs are: the currency, or GiB s
	Curve    []Even `json:"curve"`
	// From is the rate in deliveries a second from which the second value is the cheaper one; nil where that is at
	// none of the rates, or at all.
	From     *float64 `json:"from"`
	Sentence string   `json:"sentence"`
}

// Factors are the rates of a curve, as times that of the run.
var Factors = []float64{1.0 / 32, 1.0 / 16, 1.0 / 8, 1.0 / 4, 1.0 / 2, 1, 2, 4}

// ParseEven reads what is compared: a function for an instance of it kept warm against none, or FUNCTION.LIMIT=A,B.
func ParseEven(content string) (Try, error) {
	if !strings.Contains(content, "=") {
		return Try{Function: content, Limit: "keep_warm", Values: []string{"0", "1"}}, nil
	}
	t, err := ParseTry(content)
	if err == nil && (len(t.Values) != 2 || t.Function == "") {
		err = fmt.Errorf("%q must be a function, or two values of one of its limits, such as quote.idle_after=1s,1m",
			content)
	}
	return t, err
}

// NewBreakEven makes the curve from a forecast at each of some rates, which tried two values of one limit; rates that
// are refused are left out. The error says why fewer than two are left.
func (b *Base) NewBreakEven(of Try, at []*Forecast) (*BreakEven, error) {
	function := of.Function
	out := &BreakEven{Function: function, Limit: of.Limit, Without: of.Values[0], With: of.Values[1], Unit: "GiB s"}
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

// alike is by how much costs may differ that count as the same.
const alike = 0.02

// WorthIt reports whether the second value costs no more than the first.
func (e *Even) WorthIt() bool { return e.With <= e.Without*(1+alike) }

// say finds from which rate on a warm instance is the cheaper one, and says so.
func (e *BreakEven) say() {
	n := len(e.Curve)
	first := n // from which on it is cheaper at all rates
	for first > 0 && e.Curve[first-1].WorthIt() {
		first--
	}
	last := e.Curve[n-1]
	than := "with " + e.Without
	without, with := e.Function+"."+e.Limit+" "+e.Without, e.Limit+" "+e.With
	if e.Limit == "keep_warm" && e.Without == "0" && e.With == "1" {
		without, with = "starting "+e.Function+" cold", "keeping an instance warm"
		than = "without it,"
	}
	switch first {
	case n:
		e.Sentence = fmt.Sprintf("Up to %s deliveries a second, %s costs less than %s; %s of them are cold there.",
			perSecond(last.PerSecond), without, with, figure.Percent(last.Cold))
	case 0:
		e.Sentence = fmt.Sprintf("At every rate from %s deliveries a second on, %s costs less than %s.",
			perSecond(e.Curve[0].PerSecond), with, without)
	default:
		// the curves cross between two rates; as lines over the logarithm of the rate
		a, b := e.Curve[first-1], e.Curve[first]
		da, db := a.With-a.Without, max(b.Without-b.With, 0)
		at := a.PerSecond * math.Pow(b.PerSecond/a.PerSecond, da/(da+db))
		e.From = &at
		e.Sentence = fmt.Sprintf("From about %s deliveries a second on, %s costs less than %s; %s %s of the "+
			"deliveries are cold there.", perSecond(at), with, without, than, figure.Percent((a.Cold+b.Cold)/2))
	}
}

func perSecond(v float64) string { return figure.Ratio(v) }
