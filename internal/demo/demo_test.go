package demo

import (
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/project"
)

// The demo is laid where the user's state belongs, is a project without a
// mistake, and is put right when somebody has changed it.
func TestLay(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir, err := Lay()
	if err != nil {
		t.Fatal(err)
	}
	l, err := project.Load(dir)
	if err != nil || l.DrillNamed(Drill) == nil || len(l.Skipped) > 0 {
		t.Fatalf("%v, skipped %v", err, l.Skipped)
	}
	file := filepath.Join(dir, project.File)
	want, _ := os.ReadFile(file)
	os.WriteFile(file, []byte("changed"), 0o644)
	if _, err := Lay(); err != nil {
		t.Fatal(err)
	}
	if got, _ := os.ReadFile(file); string(got) != string(want) {
		t.Error("a changed file stays changed")
	}
	os.RemoveAll(dir)
	os.WriteFile(dir, []byte("in the way"), 0o644)
	if _, err := Lay(); err == nil || !strings.Contains(err.Error(), "XDG_STATE_HOME") {
		t.Errorf("a file in the way: %v", err)
	}
}

func TestQuote(t *testing.T) {
	q := newQuote()
	for target, want := range map[string]int{
		"/quote/skerry-holm?day=2026-11-20&vehicle=car&passengers=2&length=4.2":     200,
		"/quote/gull-point?day=2026-11-20&vehicle=car&passengers=2":                 404,
		"/quote/skerry-holm?day=tomorrow&vehicle=car&passengers=2":                  400,
		"/quote/skerry-holm?day=2026-11-20&vehicle=zeppelin&passengers=2":           400,
		"/quote/skerry-holm?day=2026-11-20&vehicle=foot&passengers=61":              422,
		"/quote/tern-rock-loop?day=2026-11-20&vehicle=lorry&passengers=1&length=99": 200,
	} {
		w := httptest.NewRecorder()
		q.ServeHTTP(w, httptest.NewRequest("GET", target, nil))
		if w.Code != want || !json.Valid(w.Body.Bytes()) {
			t.Errorf("%s: %d %s, want %d", target, w.Code, w.Body, want)
		}
		if strings.Contains(target, "length=99") && !strings.Contains(w.Body.String(), `"sailings":null`) {
			t.Errorf("a vehicle longer than the deck fits: %s", w.Body)
		}
	}
}

// A pass goes aboard once; what cannot be read, or comes before the passenger
// list is there, is asked for again.
func TestBoarding(t *testing.T) {
	b := newBoarding()
	scan := func(passes ...string) (aboard, refused int, retry []string) {
		var events []string
		for _, p := range passes {
			events = append(events, `{"id":"of-`+p+`","data":{"pass":"`+p+`","sailing":"BW1815-skerry"}}`)
		}
		w := httptest.NewRecorder()
		b.ServeHTTP(w, httptest.NewRequest("POST", "/", strings.NewReader("["+strings.Join(events, ",")+"]")))
		var reply struct {
			Aboard, Refused int
			Retry           []string
		}
		if err := json.Unmarshal(w.Body.Bytes(), &reply); err != nil {
			t.Fatalf("%v: %s", err, w.Body)
		}
		return reply.Aboard, reply.Refused, reply.Retry
	}
	if aboard, _, retry := scan("BF-1815-001"); aboard != 0 || len(retry) != 1 {
		t.Errorf("before the list is there: %d aboard, %v asked for again", aboard, retry)
	}
	for end := time.Now().Add(10 * time.Second); ; {
		if aboard, _, _ := scan("BF-1815-001"); aboard == 1 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the list never comes")
		}
	}
	aboard, refused, retry := scan("BF-1815-001", "BF-1815-002", "BF-1815", "BF-9999-001")
	if aboard != 1 || refused != 1 || strings.Join(retry, " ") != "of-BF-1815 of-BF-9999-001" {
		t.Errorf("%d aboard, %d refused, %v asked for again", aboard, refused, retry)
	}
	w := httptest.NewRecorder()
	b.ServeHTTP(w, httptest.NewRequest("POST", "/", strings.NewReader("{")))
	if w.Code != 400 {
		t.Errorf("no list of events: %d", w.Code)
	}
}
