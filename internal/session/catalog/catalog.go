// Package catalog lists what can be fired: saved payloads, payloads of sets, objects of buckets, and
// the next times of schedules. A catalog is read once and never changed.
package catalog

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/objects"
	"nightdrill.dev/internal/project"
)

// Catalog is all that can be fired, by source. It is never changed: a new one takes its place.
type Catalog struct {
	All    []*Item
	offers int // of them come first
}

// WithOffers returns a catalog with other offers, and all else the same.
func (x *Catalog) WithOffers(offers []*Item) *Catalog {
	return &Catalog{All: slices.Concat(offers, x.All[x.offers:]), offers: len(offers)}
}

// Read lists what can be fired: offers first, and for each source its saved payloads, then
// those of the sets that reach it. It reads files.
func Read(l *project.Loaded, store *objects.Store, offers []*Item) *Catalog {
	x := &Catalog{All: slices.Clone(offers), offers: len(offers)}
	for s := range l.Sources {
		src := &l.Sources[s]
		if len(src.Wires) == 0 {
			continue // it only stores events
		}
		kept := saved(l.Dir, s, src)
		for _, i := range kept { // one that a set is made of has the set's expectations
			for n := range l.Sets {
				if filepath.Join(l.Dir, filepath.FromSlash(l.Sets[n].Origin)) == i.File {
					if i.Expect = l.Sets[n].Expect; len(l.Sets[n].Payloads) == 1 {
						i.Expect = l.Sets[n].ExpectOf(0)
					}
				}
			}
		}
		x.All = append(x.All, kept...)
		x.All = append(x.All, own(store, s, src)...)
		for _, set := range setsOf(l.Project, s) {
			if strings.HasPrefix(set.Origin, SavedDir+"/"+src.Name+"/") {
				continue // it is listed by itself
			}
			for n := range set.Payloads {
				p := &set.Payloads[n]
				x.All = append(x.All, &Item{Source: s, SourceName: src.Name, HTTP: src.Kind == plan.HTTP,
					Label: p.Label(),
					Set:   set.Name, N: n + 1, Payload: p, Expect: set.ExpectOf(n)})
			}
		}
	}
	return x
}

// Find returns an item by its key, or nil.
func (x *Catalog) Find(key string) *Item {
	if i := slices.IndexFunc(x.All, func(i *Item) bool { return i.Key() == key }); i >= 0 {
		return x.All[i]
	}
	return nil
}

// setsOf returns the sets that reach a source.
func setsOf(p *plan.Project, source int) (sets []*payload.Set) {
	for i := range p.Sets {
		if to, _ := p.Reach(i); slices.Contains(to, source) {
			sets = append(sets, &p.Sets[i])
		}
	}
	return sets
}

// mostObjects bounds the objects of a bucket that are offered for firing.
const mostObjects = 50

// own returns what a source offers by itself: the objects of its bucket, or its
// next times.
func own(store *objects.Store, s int, src *plan.Source) (out []*Item) {
	switch src.Kind {
	case plan.Storage:
		list, _, _ := store.List(src.Bucket, "", "", mostObjects) // the bucket is there
		for n, o := range list {
			if told, ok := store.Find(src.Bucket, o.Key); ok {
				e := told.Event(fmt.Sprintf("%s-%d", src.Bucket, n+1), o.Modified.UTC())
				out = append(out, &Item{Source: s, SourceName: src.Name, Label: o.Key, Set: BucketSet + src.Bucket,
					N: n + 1, Payload: &payload.Payload{Event: e, Time: e.Time}})
			}
		}
	case plan.Schedule:
		for n, t := range NextTimes(src, time.Now(), 3) {
			p := plan.ScheduleEvent(src, t.Spec, t.At)
			out = append(out, &Item{Source: s, SourceName: src.Name,
				Label: "due " + t.At.Format("2006-01-02 15:04:05 -0700"), Set: "times", N: n + 1, Payload: &p})
		}
	}
	return out
}
