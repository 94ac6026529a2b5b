package schedule

import (
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"nightdrill.dev/internal/core/rng"
)

func zone(t testing.TB, name string) *time.Location {
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// list returns the times from a moment on, that moment included.
func list(s Spec, from, to time.Time) (out []Occurrence) {
	for at := from.Add(-1); ; {
		o, ok := s.Next(at)
		if !ok || o.At.After(to) {
			return out
		}
		out = append(out, o)
		at = o.At
	}
}

// The nights on which clocks change, in zones of all sorts. A time is followed
// by ! where a note says what was done.
func TestNightsOfChangingClocks(t *testing.T) {
	for _, c := range []struct{ zone, text, from, to, want string }{
		// forward at 01:00 UTC: 02:00 to 02:59 do not exist
		{"Europe/Berlin", "30 2 * * *", "2026-03-28T00:00", "2026-03-30T23:59",
			"28T02:30+0100 29T03:00+0200! 30T02:30+0200"},
		{"Europe/Berlin", "0,15,30 2,3 * * *", "2026-03-29T00:00", "2026-03-29T23:59",
			"29T03:00+0200! 29T03:15+0200 29T03:30+0200"},
		{"Europe/Berlin", "0 3 * * *", "2026-03-29T00:00", "2026-03-29T23:59", "29T03:00+0200"},
		{"Europe/Berlin", "*/30 * * * *", "2026-03-29T01:00", "2026-03-29T04:00",
			"29T01:00+0100 29T01:30+0100 29T03:00+0200! 29T03:30+0200 29T04:00+0200"},
		// back at 01:00 UTC: 02:00 to 02:59 come twice
		{"Europe/Berlin", "30 2 * * *", "2026-10-24T00:00", "2026-10-26T23:59",
			"24T02:30+0200 25T02:30+0200! 26T02:30+0100"},
		{"Europe/Berlin", "30 * * * *", "2026-10-25T01:00", "2026-10-25T04:00",
			"25T01:30+0200 25T02:30+0200 25T02:30+0100! 25T03:30+0100"},
		{"Europe/Berlin", "0 */2 * * *", "2026-10-25T00:00", "2026-10-25T06:00",
			"25T00:00+0200 25T02:00+0200! 25T04:00+0100 25T06:00+0100"},
		// half an hour, on the southern half
		{"Australia/Lord_Howe", "15 2 * * *", "2026-10-03T00:00", "2026-10-05T23:59",
			"03T02:15+1030 04T02:30+1100! 05T02:15+1100"},
		{"Australia/Lord_Howe", "45 1 * * *", "2026-04-04T00:00", "2026-04-06T23:59",
			"04T01:45+1100 05T01:45+1100! 06T01:45+1030"},
		// midnight itself does not exist
		{"Africa/Cairo", "0 0 * * *", "2026-04-23T00:00", "2026-04-25T12:00",
			"23T00:00+0200 24T01:00+0300! 25T00:00+0300"},
		// a whole day did not exist
		{"Pacific/Apia", "0 12 * * *", "2011-12-29T00:00", "2011-12-31T23:59",
			"29T12:00-1000 31T00:00+1400! 31T12:00+1400"},
		{"UTC", "30 2 * * *", "2026-03-29T00:00", "2026-03-30T23:59", "29T02:30+0000 30T02:30+0000"},
	} {
		z := zone(t, c.zone)
		at := func(s string) time.Time {
			x, err := time.ParseInLocation("2006-01-02T15:04", s, z)
			if err != nil {
				t.Fatal(err)
			}
			return x
		}
		s, err := Parse(c.text, z)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, o := range list(s, at(c.from), at(c.to)) {
			text := o.At.Format("02T15:04-0700")
			if o.Note != "" {
				text += "!"
			}
			got = append(got, text)
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s in %s:\ngot  %s\nwant %s", c.text, c.zone, text, c.want)
		}
	}
}

func TestCalendar(t *testing.T) {
	for _, c := range []struct{ text, from, want string }{
		{"0 0 29 2 *", "2026-01-01", "2028-02-29 00:00"},
		{"0 0 31 * *", "2026-02-01", "2026-03-31 00:00"},
		{"15 14 1 * *", "2026-11-23", "2026-12-01 14:15"},
		{"0 22 * * 1-5", "2026-11-21", "2026-11-23 22:00"},
		{"0 0 13 * fri", "2026-11-14", "2026-11-20 00:00"},   // either
		{"0 0 */13 * fri", "2026-11-14", "2026-11-27 00:00"}, // both, since one has a *
		{"5 4 * * sun", "2026-11-23", "2026-11-29 04:05"},
		{"5 4 * * 7", "2026-11-23", "2026-11-29 04:05"},
		{"0 0 1 jan,JUL *", "2026-11-23", "2027-01-01 00:00"},
		{"50-59/4 23 31 12 *", "2026-11-23", "2026-12-31 23:50"},
	} {
		s, err := Parse(c.text, time.UTC)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		from, _ := time.Parse(time.DateOnly, c.from)
		if o, _ := s.Next(from); o.At.Format("2006-01-02 15:04") != c.want {
			t.Errorf("%s after %s: %v, want %s", c.text, c.from, o.At, c.want)
		}
	}
	for text, want := range map[string]string{
		"0 0 31 2 *": "can never fire", "0 0 30 feb *": "can never fire", "0 0 31 4,6,9,11 *": "can never fire",
		"* * * *": "has 4 fields", "60 * * * *": "the minute", "* 24 * * *": "from 0 to 23",
		"* * 0 * *":  "day of the month",
		"* * * 13 *": "the month", "*/0 * * * *": "not a step", "5-1 * * * *": "backwards",
		"x * * * *": "must be a number", "* * * * mo": "the day of the week", "": "0 fields",
		"+5 * * * *": "must be a number",
	} {
		if _, err := Parse(text, time.UTC); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	e := Every(7*time.Minute, time.UTC)
	from := time.Date(2026, 11, 23, 23, 58, 0, 0, time.UTC)
	if o, _ := e.Next(from); !o.At.Equal(from.Add(7 * time.Minute)) {
		t.Errorf("every 7m: %v", o.At)
	}
}

// Against a plain reading of the rules, around every change of the clocks: a
// schedule by times of the day fires at the first minute that shows the time, or
// at the first that shows a later one; a schedule by elapsed time at every minute
// that shows one of its own.
func TestNextAgainstEveryMinute(t *testing.T) {
	zones := []string{"Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Africa/Cairo", "America/Santiago",
		"Asia/Kolkata"}
	texts := []string{"30 2 * * *", "*/20 * * * *", "0,30 0-3 * * *", "17 1,2,3 * * 0", "5 * 1-7 * *", "59 23 * * *",
		"0 */3 28-31 3,10 *"}
	for seed, name := range zones {
		z := zone(t, name)
		at := time.Date(2000+rng.New(uint64(seed), 5).Below(25), 1, 1, 0, 0, 0, 0, z)
		for range 4 {
			_, change := at.ZoneBounds()
			if change.IsZero() {
				change = at.AddDate(0, 3, 0)
			}
			against(t, name, texts, change.AddDate(0, 0, -9), change.AddDate(0, 0, 9))
			at = change
		}
	}
}

func against(t *testing.T, name string, texts []string, from, to time.Time) {
	const shown = "2006-01-02 15:04"
	var minutes []time.Time
	first := map[string]time.Time{} // that the clock shows a time
	for at := from.Truncate(time.Minute); at.Before(to); at = at.Add(time.Minute) {
		minutes = append(minutes, at)
		if _, ok := first[at.Format(shown)]; !ok {
			first[at.Format(shown)] = at
		}
	}
	for _, text := range texts {
		s, err := Parse(text, from.Location())
		if err != nil {
			t.Fatal(err)
		}
		takes := func(wall time.Time) bool {
			y, m, d := wall.Date()
			return s.fits(time.Date(y, m, d, 0, 0, 0, 0, time.UTC)) && s.hour&(1<<wall.Hour()) != 0 &&
				s.minute&(1<<wall.Minute()) != 0
		}
		var want []time.Time
		if s.Elapsed() {
			for _, at := range minutes {
				if takes(at) {
					want = append(want, at)
				}
			}
		} else {
			wall, _ := time.Parse(shown, minutes[0].Format(shown))
			for end := minutes[len(minutes)-1].Format(shown); wall.Format(shown) <= end; wall = wall.Add(time.Minute) {
				if !takes(wall) {
					continue
				}
				at, ok := first[wall.Format(shown)]
				for later := wall; !ok; at, ok = first[later.Format(shown)] {
					later = later.Add(time.Minute)
				}
				if len(want) == 0 || !want[len(want)-1].Equal(at) {
					want = append(want, at)
				}
			}
		}
		var got []time.Time
		for _, o := range list(s, minutes[0], minutes[len(minutes)-1]) {
			got = append(got, o.At)
		}
		if !slices.EqualFunc(got, want, time.Time.Equal) {
			t.Errorf("%s in %s from %v:\ngot  %v\nwant %v", text, name, from, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("30 2 * * *")
	f.Add("*/7 1-5,22 1,31 feb-DEC/2 sun")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text, time.UTC)
		if err != nil {
			return
		}
		from := time.Date(2026, 2, 27, 23, 59, 30, 0, time.UTC)
		last := from
		for range 5 {
			o, ok := s.Next(last)
			if !ok || !o.At.After(last) || o.At.Second() != 0 {
				t.Fatalf("%q after %v: %v %v", text, last, o.At, ok)
			}
			last = o.At
		}
	})
}

func BenchmarkNext(b *testing.B) {
	s, err := Parse("*/5 * * * *", zone(b, "Europe/Berlin"))
	if err != nil {
		b.Fatal(err)
	}
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, s.Zone)
	for b.Loop() {
		o, _ := s.Next(at)
		at = o.At
	}
}
