package payload

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Overview is what there is to be said of a set as a whole.
type Overview struct {
	Least, Median, Most int // bytes of data
	Total               int
	Sizes               []int     // payloads by size, in equal parts from the least to the most; nil where all have one
	First               time.Time // zero where there are no times
	Span                time.Duration
	Arrivals            []int // in equal parts of the span; nil where there are no times
	Redacted            []Place
}

// Place is a place of payloads, and in how many of them something is there.
type Place struct {
	Where string
	N     int
}

// sizeParts is in how many parts the range of sizes is cut.
const sizeParts = 16

// Overview summarises a set, its times in the given number of columns.
func (s *Set) Overview(columns int) (o Overview) {
	sizes := make([]int, 0, len(s.Payloads))
	places := map[string]int{}
	for i := range s.Payloads {
		p := &s.Payloads[i]
		sizes = append(sizes, p.Size())
		o.Total += p.Size()
		seen := map[string]bool{}
		for _, spot := range p.Redacted() {
			if !seen[spot.Where] {
				places[spot.Where]++
			}
			seen[spot.Where] = true
		}
		if !p.Time.IsZero() && (o.First.IsZero() || p.Time.Before(o.First)) {
			o.First = p.Time
		}
	}
	if len(sizes) == 0 {
		return o
	}
	slices.Sort(sizes)
	o.Least, o.Median, o.Most = sizes[0], sizes[(len(sizes)-1)/2], sizes[len(sizes)-1]
	if o.Most > o.Least {
		o.Sizes = make([]int, sizeParts)
		for _, size := range sizes {
			o.Sizes[min((size-o.Least)*sizeParts/(o.Most-o.Least), sizeParts-1)]++
		}
	}
	for _, where := range slices.SortedFunc(maps.Keys(places), strings.Compare) {
		o.Redacted = append(o.Redacted, Place{where, places[where]})
	}
	times, _, ok := s.Offsets()
	if !ok || len(times) < 2 {
		return o
	}
	if o.Span = slices.Max(times); o.Span > 0 {
		o.Arrivals = make([]int, columns)
		for _, t := range times {
			o.Arrivals[min(int(float64(t)/float64(o.Span)*float64(columns)), columns-1)]++
		}
	}
	return o
}
