package session

import (
	"fmt"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/infer"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/store"
)

// mostRelated bounds the events of a run that is read for how its payloads were answered.
const mostRelated = 200_000

// Answered returns how the payloads of a set were answered in the latest run that sent them; ok is false
// where none did.
func (d *Workspace) Answered(set *payload.Set) (a *infer.Answers, run store.Info, ok bool) {
	all, err := d.Runs.List()
	if err != nil {
		return nil, run, false
	}
	for _, info := range all[:min(len(all), 20)] {
		if info.Headline == nil || info.Headline.Arrived > mostRelated {
			continue
		}
		r, err := d.Runs.Load(info.ID)
		if err != nil {
			continue
		}
		labels := answersOf(r, set.Name)
		if len(labels) == 0 {
			continue
		}
		a = &infer.Answers{}
		for n := range set.Payloads {
			if label := labels[int32(n+1)]; label != "" {
				a.Add(&set.Payloads[n], label)
			}
		}
		return a, info, a.N() > 0
	}
	return nil, run, false
}

// answersOf returns how each payload of a set was answered most often, by its number. Of HTTP it is the
// status; of other events what became of them.
func answersOf(r *record.Run, set string) map[int32]string {
	counts := map[int32]map[string]int{}
	at := r.Index()
	for i := range r.Deliveries {
		x := &r.Deliveries[i]
		arrival := &r.Arrivals[x.Event]
		if !arrival.Offered() || x.Outcome == engine.Rejected || x.Outcome == engine.Abandoned {
			continue
		}
		p := &r.Payloads[arrival.Payload]
		if p.Set != set {
			continue
		}
		label := x.Outcome.Words()
		if v := r.Invocation(at, x.Invocation); v != nil && v.Status > 0 && (r.Sources[x.Source].Kind == "http" ||
			x.Outcome != engine.Done && v.Status >= 300) {
			label = fmt.Sprintf("status %d", v.Status)
		}
		if counts[int32(p.N)] == nil {
			counts[int32(p.N)] = map[string]int{}
		}
		counts[int32(p.N)][label]++
	}
	out := map[int32]string{}
	for n, of := range counts {
		most := 0
		for label, k := range of {
			if k > most || k == most && label < out[n] {
				out[n], most = label, k
			}
		}
	}
	return out
}
