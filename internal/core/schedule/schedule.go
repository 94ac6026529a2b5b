// Package schedule says when a cron expression, or an interval, falls due in a
// time zone, also on the nights on which clocks change.
//
// Parse reads five fields as crontab(5) has them; Every makes an interval. Next
// gives one time after the other, with a note where a clock change had a say.
//
// An expression whose hours are all 24 goes by elapsed time: on the night with a
// repeat it fires in both of the hours, on the night with a gap nothing is lost.
// Any other names times of the day: one that comes twice fires the first time
// alone, one that does not exist fires at the moment at which the clocks were
// put forward, once for all that fell into the gap.
package schedule

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/text"
)

// Spec is when a schedule fires. The zero value never does.
type Spec struct {
	Text string // the expression, or the interval
	Zone *time.Location

	every                         time.Duration // 0 for an expression
	minute, hour, day, month, dow uint64        // sets of numbers, as bits
	both                          bool          // the day and the day of the week must both fit: one of them has a *
}

// Occurrence is one time at which a schedule fires.
type Occurrence struct {
	At   time.Time
	Note string // what a clock change did to it; "" for nothing
}

// field is one of the five.
type field struct {
	name  string
	lo    int
	hi    int
	names []string // of numbers from lo on
}

var fields = [5]field{
	{"minute", 0, 59, nil},
	{"hour", 0, 23, nil},
	{"day of the month", 1, 31, nil},
	{"month", 1, 12, []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}},
	{"day of the week", 0, 7, []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
}

// Every fires again and again after a time, from where one begins to ask.
func Every(d time.Duration, zone *time.Location) Spec {
	return Spec{Text: d.String(), Zone: zone, every: d}
}

// Parse reads an expression of five fields: minute, hour, day of the month,
// month, day of the week (0 and 7 are Sunday). Where neither the day of the month
// nor the day of the week has a *, either may fit, as in crontab(5). One that can
// never fire is refused.
func Parse(text string, zone *time.Location) (Spec, error) {
	s := Spec{Text: text, Zone: zone}
	parts := strings.Fields(text)
	if len(parts) != 5 {
		return s, fmt.Errorf("%q has %d fields; expected five: minute, hour, day of the month, month, day of the "+
			"week, such as 15 2 * * *", text, len(parts))
	}
	for i, set := range []*uint64{&s.minute, &s.hour, &s.day, &s.month, &s.dow} {
		var err error
		if *set, err = fields[i].read(parts[i]); err != nil {
			return s, fmt.Errorf("%q, the %s: %w", text, fields[i].name, err)
		}
	}
	if s.dow&(1<<7) != 0 {
		s.dow |= 1
	}
	s.dow &^= 1 << 7
	s.both = strings.Contains(parts[2], "*") || strings.Contains(parts[4], "*")
	if _, ok := s.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, zone)); !ok {
		return s, fmt.Errorf("%q can never fire: none of its months has such a day", text)
	}
	return s, nil
}

func (f *field) read(text string) (set uint64, err error) {
	for _, part := range strings.Split(text, ",") {
		one, err := f.part(part)
		if err != nil {
			return 0, err
		}
		set |= one
	}
	return set, nil
}

// part reads *, a number, a range, each with a step or without.
func (f *field) part(text string) (set uint64, err error) {
	span, stepText, stepped := strings.Cut(text, "/")
	step := 1
	if stepped {
		if step, err = strconv.Atoi(stepText); err != nil || step < 1 {
			return 0, fmt.Errorf("%q is not a step, such as */5", stepText)
		}
	}
	lo, hi := f.lo, f.hi
	if f.hi == 7 && span == "*" {
		hi = 6
	}
	if span != "*" {
		from, to, ranged := strings.Cut(span, "-")
		if lo, err = f.number(from); err != nil {
			return 0, err
		}
		switch {
		case ranged:
			if hi, err = f.number(to); err != nil {
				return 0, err
			}
		case !stepped:
			hi = lo
		}
		if hi < lo {
			return 0, fmt.Errorf("the range %s is backwards", span)
		}
	}
	for n := lo; n <= hi; n += step {
		set |= 1 << n
	}
	return set, nil
}

func (f *field) number(text string) (int, error) {
	if i := slices.Index(f.names, strings.ToLower(text)); i >= 0 {
		return f.lo + i, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || text[0] == '+' || n < f.lo || n > f.hi {
		return 0, fmt.Errorf("%q must be a number from %d to %d", text, f.lo, f.hi)
	}
	return n, nil
}

// Interval returns the interval of a schedule that has one; 0 for an expression.
func (s *Spec) Interval() time.Duration { return s.every }

// Elapsed reports whether the schedule goes by elapsed time.
func (s *Spec) Elapsed() bool { return s.every > 0 || bits.OnesCount64(s.hour) == 24 }

// mostDays is how far Next looks: the calendar repeats after 400 years, what
// fires at all does so within a fraction of them.
const mostDays = 41 * 366

// Next returns the first time after a moment at which the schedule fires; ok is
// false when there is none.
func (s *Spec) Next(after time.Time) (o Occurrence, ok bool) {
	if s.every > 0 {
		return Occurrence{At: after.Add(s.every).In(s.Zone)}, true
	}
	if s.Zone == nil || s.minute == 0 {
		return o, false
	}
	after = after.In(s.Zone)
	y, m, d := after.Date()
	day := time.Date(y, m, d, 0, 0, 0, 0, time.UTC).AddDate(0, 0, -1) // what was put off may belong to the day before
	for range mostDays {
		if s.fits(day) {
			if s.Elapsed() {
				o, ok = s.elapsed(day, after)
			} else {
				o, ok = s.named(day, after)
			}
			if ok {
				return o, true
			}
		}
		day = day.AddDate(0, 0, 1)
	}
	return o, false
}

// fits reports whether a date is one of the schedule's days.
func (s *Spec) fits(day time.Time) bool {
	if s.month&(1<<int(day.Month())) == 0 {
		return false
	}
	dom, dow := s.day&(1<<day.Day()) != 0, s.dow&(1<<int(day.Weekday())) != 0
	if s.both {
		return dom && dow
	}
	return dom || dow
}

// named returns the first of a date's times that is after a moment; day is the date in UTC.
func (s *Spec) named(day, after time.Time) (o Occurrence, ok bool) {
	for hours := s.hour; hours != 0; hours &= hours - 1 {
		for minutes := s.minute; minutes != 0; minutes &= minutes - 1 {
			wall := day.Add(time.Duration(bits.TrailingZeros64(hours))*time.Hour +
				time.Duration(bits.TrailingZeros64(minutes))*time.Minute)
			if o = s.resolve(wall); o.At.After(after) {
				return o, true
			}
		}
	}
	return o, false
}

// reach is further from a time of day in UTC than any zone can be.
const reach = 15 * time.Hour

func offset(t time.Time) time.Duration {
	_, seconds := t.Zone()
	return time.Duration(seconds) * time.Second
}

// resolve returns the moment of a time of day, which is given as if it were in UTC.
func (s *Spec) resolve(wall time.Time) Occurrence {
	before, after := offset(wall.Add(-reach).In(s.Zone)), offset(wall.Add(reach).In(s.Zone))
	first, second := wall.Add(-before).In(s.Zone), wall.Add(-after).In(s.Zone)
	isFirst, isSecond := offset(first) == before, offset(second) == after
	switch {
	case isFirst && isSecond && before != after: // it comes twice
		return Occurrence{first, fmt.Sprintf("%s comes twice on %s, as the clocks go back: it fires the first time",
			wall.Format("15:04"), wall.Format(time.DateOnly))}
	case isFirst:
		return Occurrence{At: first}
	case isSecond:
		return Occurrence{At: second}
	}
	change, _ := first.ZoneBounds() // with the old offset, it lies behind the change
	return Occurrence{change, fmt.Sprintf("%s does not exist on %s, as the clocks go forward: it fires at %s",
		wall.Format("15:04"), wall.Format(time.DateOnly), change.Format("15:04"))}
}

// elapsed returns the first moment of a date, after another, at which the clock shows one of the
// schedule's minutes.
func (s *Spec) elapsed(day, after time.Time) (o Occurrence, ok bool) {
	at := after.Truncate(time.Minute).Add(time.Minute)
	if begin := s.resolve(day).At; at.Before(begin) {
		at = begin
	}
	for ; ; at = at.Add(time.Minute) {
		// zones have been off by seconds, long ago
		at = at.Add(-time.Duration(at.Second()) * time.Second)
		if y, m, d := at.Date(); y != day.Year() || m != day.Month() || d != day.Day() {
			return o, false
		}
		if s.minute&(1<<at.Minute()) == 0 || !at.After(after) {
			continue
		}
		o.At = at
		if change, _ := at.ZoneBounds(); change.After(after) { // the first one since
			turn := offset(change) - offset(change.Add(-time.Second))
			switch {
			case turn < 0:
				o.Note = fmt.Sprintf("the clocks went back by %v to %s: times that come again fire again, as it goes "+
					"by elapsed time", text.Duration(-turn), change.Format("15:04"))
			case turn > 0:
				o.Note = fmt.Sprintf("the clocks went forward by %v to %s: the times in between do not exist and are "+
					"not made up for, as it goes by elapsed time", text.Duration(turn), change.Format("15:04"))
			}
		}
		return o, true
	}
}
