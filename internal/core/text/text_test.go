package text

import (
	"testing"
	"time"
)

func TestHarmless(t *testing.T) {
	for in, want := range map[string]string{"quay": "quay", "a\tb": "a b", "\x1b[2J\a": "·[2J·", "船\u202e!": "船·!",
		"a\xffb": "a·b"} {
		if got := Harmless(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

func TestPlural(t *testing.T) {
	for n, want := range map[int]string{0: "0 events", 1: "1 event", 2: "2 events"} {
		if got := Plural(n, "event"); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
	if got := Plural(3, "reply"); got != "3 replies" {
		t.Error(got)
	}
}

func TestDuration(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0:                                    "0 s",
		7:                                    "7 ns",
		1500:                                 "1.5 µs",
		250 * time.Millisecond:               "250 ms",
		10 * time.Microsecond:                "10 µs",
		1010 * time.Microsecond:              "1.01 ms",
		1500 * time.Millisecond:              "1.5 s",
		10 * time.Second:                     "10 s",
		time.Minute:                          "1 min",
		90*time.Second + 20*time.Millisecond: "1 min 30.02 s",
		24 * time.Hour:                       "24 h",
		time.Hour + time.Second:              "1 h 1 s",
		-time.Hour:                           "-1 h",
	} {
		if got := Duration(d); got != want {
			t.Errorf("Duration(%v) = %q, want %q", d, got, want)
		}
	}
}

func TestMeasured(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0:                               "0 s",
		34_812_345:                      "34.8 ms",
		999_600_000:                     "1 s",
		17_381_950_000:                  "17.4 s",
		154 * time.Second * 1001 / 1000: "2 min 34 s",
	} {
		if got := Measured(d); got != want {
			t.Errorf("Measured(%v) = %q, want %q", d, got, want)
		}
	}
}
