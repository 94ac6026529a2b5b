package demo

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/project"
)

// The demo is laid where the user's state belongs, is a project without a
// mistake, and is put right when someone has changed it.
func TestLay(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir, err := Lay()
	if err != nil {
		t.Fatal(err)
	}
	l, err := project.Load(t.Context(), dir)
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
	if h := l.Functions[l.FunctionNamed("tides")].Handler; h == nil {
		t.Log("neither Python nor Node is on this machine: the tides were not laid as a handler")
	}
	t.Setenv("PATH", t.TempDir())
	if text := tidesHandler(); text != itself {
		t.Errorf("without any interpreter the tides are %q", text)
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
// list is there, is requested again.
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
		t.Errorf("before the list is there: %d aboard, %v requested again", aboard, retry)
	}
	for end := time.Now().Add(2 * time.Minute); ; {
		if aboard, _, _ := scan("BF-1815-001"); aboard == 1 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the list never comes")
		}
	}
	aboard, refused, retry := scan("BF-1815-001", "BF-1815-002", "BF-1815", "BF-9999-001")
	if aboard != 1 || refused != 1 || strings.Join(retry, " ") != "of-BF-1815 of-BF-9999-001" {
		t.Errorf("%d aboard, %d refused, %v requested again", aboard, refused, retry)
	}
	w := httptest.NewRecorder()
	b.ServeHTTP(w, httptest.NewRequest("POST", "/", strings.NewReader("{")))
	if w.Code != 400 {
		t.Errorf("no list of events: %d", w.Code)
	}
}

// A manifest is fetched from where the event says, added up, and judged; what is
// no manifest is refused with the line.
func TestManifest(t *testing.T) {
	m := newManifest()
	texts := map[string]string{
		"/well.csv":  "Heron,BW1830-skerry,BF-1830-152\nlime,400,20\na piano,300,21\n",
		"/heavy.csv": "Heron,BW1830-skerry,BF-1830-153\nbricks,9000,20\n",
		"/odd.csv":   "Heron,BW1830-skerry,BF-1830-154\nlime,much,20\n",
		"/lost.csv":  "Albatross,x,y\n",
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, ok := texts[r.URL.Path]
		if !ok {
			w.WriteHeader(404)
		}
		_, _ = io.WriteString(w, text)
	}))
	defer server.Close()
	for name, want := range map[string]string{"/well.csv": `200 "kilograms":700 "fits":true "pass":"BF-1830-152"`,
		"/heavy.csv": `200 "fits":false`, "/odd.csv": `422 line 2: "much"`, "/lost.csv": "422 first line",
		"/none": "404 cannot read"} {
		w := httptest.NewRecorder()
		m.ServeHTTP(w, httptest.NewRequest("POST", "/", strings.NewReader(`{"key":"k","url":"`+server.URL+name+`"}`)))
		got := fmt.Sprint(w.Code, " ", w.Body)
		for _, part := range strings.Fields(want) {
			if !strings.Contains(got, part) {
				t.Errorf("%s: %s, want %s", name, got, want)
			}
		}
	}
}

// An arrival is estimated for every position of a batch; one that cannot be
// refuses the batch.
func TestPosition(t *testing.T) {
	p := newPosition()
	send := func(lat string) (int, string) {
		w := httptest.NewRecorder()
		p.ServeHTTP(w, httptest.NewRequest("POST", "/",
			strings.NewReader(`[{"id":"1","data":{"vessel":"Heron","lat":54.1,"lon":-3.2,"knots":10}},{"id":"2",`+
				`"data":{"vessel":"Tern","lat":`+lat+`,"lon":-3.2,"knots":12}}]`)))
		return w.Code, w.Body.String()
	}
	var out []struct{ Minutes float64 }
	if status, text := send("54.4"); status != 200 || json.Unmarshal([]byte(text), &out) != nil || len(out) != 2 ||
		out[0].Minutes < 100 || out[0].Minutes > 300 || out[1].Minutes > 60 {
		t.Errorf("%d %s", status, text)
	}
	if status, text := send("544"); status != 422 {
		t.Errorf("a position that cannot be: %d %s", status, text)
	}
}

// A day has about four turns of the tide, high and low in turn.
func TestTides(t *testing.T) {
	w := httptest.NewRecorder()
	newTides().ServeHTTP(w, httptest.NewRequest("POST", "/", strings.NewReader(`{"due":"2026-03-29T02:00:00+01:00"}`)))
	var out struct {
		Turns []struct {
			Metres float64
			What   string
		}
	}
	if w.Code != 200 || json.Unmarshal(w.Body.Bytes(), &out) != nil || len(out.Turns) < 3 || len(out.Turns) > 5 {
		t.Fatalf("%d %s", w.Code, w.Body)
	}
	for i, x := range out.Turns {
		if (x.What == "high water") != (x.Metres > 0) || i > 0 && x.What == out.Turns[i-1].What {
			t.Errorf("turn %d is %+v", i, x)
		}
	}
}
