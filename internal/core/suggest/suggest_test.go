package suggest

import "testing"

func TestWord(t *testing.T) {
	words := []string{"start", "stop", "timeout", "concurrency", "python3"}
	for s, want := range map[string]string{"strat": "start", "sotp": "stop", "timeuot": "timeout",
		"concurency": "concurrency", "pyhton3": "python3", "pythn3": "python3",
		"": "", "x": "", "quay": "", "stopp": "stop", "concerned": ""} {
		if got := Word(s, words); got != want {
			t.Errorf("%q: %q, want %q", s, got, want)
		}
	}
	if Distance("abc", "") != 3 || Distance("", "") != 0 || Distance("ab", "ba") != 1 {
		t.Error("distances are wrong")
	}
}
