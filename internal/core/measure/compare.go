package measure

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Side is one side of a comparison: a function of a run.
type Side struct {
	Label    string
	Run      *record.Run
	Function int
}

// Comparison compares sides. The others are compared with the first.
type Comparison struct {
	Title     string            `json:"title"`
	Sides     []SideFigures     `json:"sides"`
	Contrasts [][]Contrast      `json:"contrasts"` // of each side but the first
	Replies   []ReplyDifference `json:"replies"`   // events that got different replies, the first of them
	Compared  int               `json:"events_compared"`
	Differed  int               `json:"events_differed"`
	Sentences []string          `json:"sentences"`
	Warnings  []string          `json:"warnings"`
}

// SideFigures are the figures of a side.
type SideFigures struct {
	Label    string          `json:"label"`
	Run      string          `json:"run"`
	Function string          `json:"function"`
	Max      int             `json:"max"` // its limit
	Figures  FunctionFigures `json:"figures"`
	Outcomes Counts          `json:"outcomes"`
	Spread   FunctionSpread  `json:"spread"`
	Step     time.Duration   `json:"step"` // of MiB
	MiB      []float64       `json:"mib"`  // memory held, over the run
}

// ReplyDifference is an event that got a different reply on another side.
type ReplyDifference struct {
	Side    int    `json:"side"`  // against the first
	Event   string `json:"event"` // set#n and what it is
	Words   string `json:"words"`
	First   int32  `json:"first_reply"` // numbers of the replies in their runs
	Second  int32  `json:"second_reply"`
	Payload int32  `json:"-"`
}

// mostReplies bounds the events that are listed for different replies.
const mostReplies = 50

// Compare computes the figures of a comparison, from the analysis of each side's run.
func Compare(title string, sides []Side, known map[*record.Run]*Analysis, reply func(side int, number int32) []byte,
) *Comparison {
	c := &Comparison{Title: title, Replies: []ReplyDifference{}, Sentences: []string{}, Warnings: []string{}}
	populations := make([]*Populations, len(sides))
	times := map[*record.Run]*Timeline{}
	for i, s := range sides {
		a, f := known[s.Run], &s.Run.Functions[s.Function]
		if times[s.Run] == nil {
			times[s.Run] = a.Timeline()
		}
		t := times[s.Run]
		populations[i] = &a.Populations[s.Function]
		side := SideFigures{Label: s.Label, Run: s.Run.ID, Function: f.Name, Max: f.Max,
			Figures: a.Summary.Functions[f.Name], Outcomes: a.Summary.Functions[f.Name].Outcomes,
			Spread: spreadOf(populations[i]), Step: t.Step}
		if t.Step > 0 {
			side.MiB = t.Functions[s.Function].MiB
		}
		c.Sides = append(c.Sides, side)
	}
	c.Contrasts = Contrasts(populations, sides)
	c.replies(sides, reply)
	return c
}

// Contrasts compares the first side with each of the others, and rules on all of it together. Where the
// cold starts could end early, the ruling is as package stats describes for sequential comparisons.
func Contrasts(of []*Populations, sides []Side) (out [][]Contrast) {
	var cold, warm []*Contrast
	for i := 1; i < len(sides); i++ {
		c := contrasts(of[0], of[i], &sides[0], &sides[i])
		for k := range c {
			if ofStarts(c[k].What) {
				cold = append(cold, &c[k])
			} else {
				warm = append(warm, &c[k])
			}
		}
		out = append(out, c)
	}
	switch looks, stopped := looksOf(sides); {
	case stopped:
		judgeAll(cold, stats.LookNoise(looks))
		judgeAll(warm, stats.LateNoise)
	case looks > 0:
		judgeAll(append(cold, warm...), stats.LateNoise)
	default:
		judgeAll(append(cold, warm...), stats.Noise)
	}
	return out
}

// ofStarts reports whether a contrast is of what is measured once for each start.
func ofStarts(what string) bool {
	return slices.Contains([]string{"start", "first reply", engine.Cold.String(), engine.First.String(), "peak memory"},
		what)
}

// looksOf returns how many looks were planned at the cold starts of the sides, and whether one of them ended
// the cold starts.
func looksOf(sides []Side) (looks int, stopped bool) {
	for i := range sides {
		looks = max(looks, len(stats.Looks(sides[i].Run.EarlyOf)))
		stopped = stopped || sides[i].Run.StoppedAt > 0
	}
	return looks, stopped
}

// Settled reports whether the cold starts of a run's variants have a clear verdict already: each variant
// starts differently from the first, or a difference of more than margin, as a share, would have been
// detected.
func Settled(r *record.Run, margin float64) bool {
	variants := Variants(r)
	if len(variants) == 0 {
		return false
	}
	a := Analyze(r)
	level := stats.LookNoise(len(stats.Looks(r.EarlyOf)))
	for _, sides := range variants {
		var all, asked []*Contrast
		for i := 1; i < len(sides); i++ {
			first, other := &a.Populations[sides[0].Function], &a.Populations[sides[i].Function]
			c := contrasts(first, other, &sides[0], &sides[i])
			for k := range c {
				if !ofStarts(c[k].What) {
					continue
				}
				all = append(all, &c[k])
				// the start; one that is kept warm is not waited for
				if k == 0 && r.Functions[sides[i].Function].KeepWarm == 0 {
					asked = append(asked, &c[k])
				}
			}
		}
		if judgeAll(all, level); len(asked) == 0 {
			return false
		}
		for _, c := range asked {
			if !c.Beyond && (c.Least == nil || *c.Least > margin) {
				return false
			}
		}
	}
	return true
}

// contrasts compares what two sides measured.
func contrasts(a, b *Populations, of, to *Side) (out []Contrast) {
	addOf := func(unit Unit, what string, x, y *stats.Population, s stats.Sampling) *Contrast {
		if x.N()+y.N() == 0 {
			return &Contrast{}
		}
		out = append(out, contrast(what, unit, x, y, s))
		return &out[len(out)-1]
	}
	add := func(what string, x, y *stats.Population, s stats.Sampling) { addOf(Milliseconds, what, x, y, s) }
	// what both sides did one at a time: samples are independent
	alone := func(class engine.Class) stats.Sampling {
		return max(samplingOf(of.Run, class), samplingOf(to.Run, class))
	}
	add("start", &a.Start, &b.Start, stats.Independent)
	add("first reply", &a.Phases.Answer, &b.Phases.Answer, stats.Independent)
	for _, class := range []engine.Class{engine.Cold, engine.First, engine.Warm} {
		add(class.String(), &a.Latency[class], &b.Latency[class], alone(class))
	}
	add("retried", &a.Retried, &b.Retried, stats.Serial)
	add("warm service", &a.Service[engine.Warm], &b.Service[engine.Warm], alone(engine.Warm))
	add("wait", &a.Wait[engine.Warm], &b.Wait[engine.Warm], alone(engine.Warm))
	add("own warm time", &a.Own[engine.Warm], &b.Own[engine.Warm], alone(engine.Warm))
	for i := range a.Named {
		name := a.Named[i].Name
		add(name, a.Named[i].Population, b.byName(name), alone(engine.Warm))
	}
	memory := addOf(MiB, "peak memory", of.peaks(), to.peaks(), stats.Independent)
	if x, y := of.Run.Functions[of.Function].Meter, to.Run.Functions[to.Function].Meter; x != y {
		memory.Why = fmt.Sprintf("measured by %s on one side and by %s on the other", meterText(x), meterText(y))
	}
	if OtherMachine(of.Run, to.Run) {
		for i := range out {
			out[i].Why = ElsewhereWhy
		}
	}
	return out
}

// ElsewhereWhy is why figures of runs on different machines have no verdict: they stand side by side.
const ElsewhereWhy = "the runs are from different machines"

// OtherMachine reports whether two runs are known to be from different machines.
func OtherMachine(a, b *record.Run) bool {
	return a.Machine != b.Machine && a.Machine != "" && b.Machine != ""
}

// meterText names a meter of memory and processor time.
func meterText(meter string) string {
	if meter == "" {
		return "the first process alone"
	}
	return meter
}

// peaks returns the highest memory use of each instance, in bytes.
func (s *Side) peaks() *stats.Population {
	p := &stats.Population{}
	for i := range s.Run.Instances {
		if in := &s.Run.Instances[i]; int(in.Function) == s.Function && in.Peak > 0 {
			p.Add(time.Duration(in.Peak))
		}
	}
	return p
}

// replies finds the events that got different replies from those of the first side: no reply of one
// side is among the replies of the other.
func (c *Comparison) replies(sides []Side, reply func(side int, number int32) []byte) {
	type answer struct{ status, reply int32 }
	answers := make([]map[string][]answer, len(sides))
	labels := map[string]string{}
	for i, s := range sides {
		answers[i] = map[string][]answer{}
		at := s.Run.Index()
		for k := range s.Run.Attempts {
			a := &s.Run.Attempts[k]
			v := s.Run.Invocation(at, a.Invocation)
			if v == nil || int(v.Function) != s.Function || v.Batch != 1 || v.Status == 0 ||
				int(a.Event) >= len(s.Run.Arrivals) {
				continue
			}
			p := &s.Run.Payloads[s.Run.Arrivals[a.Event].Payload]
			key := fmt.Sprintf("%s#%d %s", p.Set, p.N, p.Label)
			x := answer{v.Status, v.Reply}
			if all := answers[i][key]; len(all) < 8 && !slices.Contains(all, x) {
				answers[i][key] = append(all, x)
			}
			labels[key] = p.Label
		}
	}
	same := func(side int, x, y answer) bool {
		switch {
		case x.status != y.status:
			return false
		case x.reply == 0 || y.reply == 0: // not kept
			return true
		case sides[0].Run == sides[side].Run:
			return x.reply == y.reply
		case reply == nil:
			return true
		}
		return bytes.Equal(reply(0, x.reply), reply(side, y.reply))
	}
	for i := 1; i < len(sides); i++ {
		for _, key := range slices.Sorted(maps.Keys(answers[0])) {
			first, second := answers[0][key], answers[i][key]
			if len(second) == 0 {
				continue
			}
			c.Compared++
			if slices.ContainsFunc(first, func(x answer) bool {
				return slices.ContainsFunc(second, func(y answer) bool { return same(i, x, y) })
			}) {
				continue
			}
			if c.Differed++; len(c.Replies) < mostReplies {
				words := "a different reply"
				if first[0].status != second[0].status {
					words = fmt.Sprintf("status %d, here %d", first[0].status, second[0].status)
				}
				c.Replies = append(c.Replies, ReplyDifference{Side: i, Event: key, Words: words, First: first[0].reply,
					Second: second[0].reply})
			}
		}
	}
}

// Variants returns the sides of a run that has several variants of a function, by the function's
// name: the function itself first.
func Variants(r *record.Run) map[string][]Side {
	out := map[string][]Side{}
	for i := range r.Functions {
		if !r.Asked(i) {
			continue
		}
		name := r.Functions[i].Name
		base := plan.BaseName(strings.TrimSuffix(name, plan.DroppedMark))
		out[base] = append(out[base], Side{name, r, i})
	}
	for base, sides := range out {
		if len(sides) < 2 {
			delete(out, base)
			continue
		}
		slices.SortStableFunc(sides, func(a, b Side) int { return cmp.Compare(len(a.Label), len(b.Label)) })
		if i := slices.IndexFunc(sides, func(s Side) bool { return s.Label == base }); i > 0 {
			own := sides[i]
			copy(sides[1:], sides[:i])
			sides[0] = own
		}
	}
	return out
}
