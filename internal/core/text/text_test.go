package text

import "testing"

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
