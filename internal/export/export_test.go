package export

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/stats"
)

// quay is a run with requests and messages: some cold, some rejected, one message
// that became a dead letter; its names are hard on whoever writes them down.
func quay() *Source {
	r := &record.Run{Project: `quay <&> "ropes"`, Drill: "evening", ID: "20260101-180000-aa", Finished: true,
		Busy: math.NaN(), Length: clock.Time(9 * time.Second),
		Functions: []record.Function{{Name: "quote", Max: 4, PerInstance: 1}, {Name: "gate", Max: 1, PerInstance: 1}},
		Sources: []record.Source{{Name: "fares", Kind: "http", Routes: []string{"GET /quote/{to}"}, To: []int{0}},
			{Name: "scans", Kind: "queue", To: []int{1}}},
		Budgets: []string{"function quote warm p50 < 1ms", "source scans failed == 0", "function quote cold p99 < 1s"},
		Blobs: [][]byte{[]byte("GET /quote/holm?cars=1\nX-Desk: 3, \"a\"\n\n"),
			[]byte(`{"specversion":"1.0","id":"s1","source":"/gate","type":"pass","data":{"n":1}}`),
			[]byte("200 OK\nContent-Type: application/json\n\n{\"cents\":450}"),
			[]byte("500 Internal Server Error\n\nbroken")},
		Payloads: []record.Payload{{Set: "asked", N: 1, Label: "GET /quote/holm?cars=1,\r\n\"x\"", Blob: 1},
			{Set: "read", N: 1, Label: "pass s1", Blob: 2}}}
	rnd := rng.New(2, 2)
	for in := range 4 {
		at := clock.Time(in) * clock.Time(time.Second)
		r.Instances = append(r.Instances, record.Instance{ID: int32(in), Number: int32(in + 1), Spawned: at,
			Exec: at + 1e6, Ready: at + 40e6, Stopped: at + 3e9, Peak: 30 << 20})
	}
	r.Instances = append(r.Instances, record.Instance{ID: 4, Function: 1, Number: 1, Spawned: 1, Ready: 5e6})
	for i := range 400 {
		at := clock.Time(40*time.Millisecond) + clock.Time(i)*clock.Time(20*time.Millisecond)
		a := record.Arrival{Due: at, Arrived: at, From: -1, Round: int32(i)}
		v := record.Invocation{ID: uint64(i + 1), Assigned: at, Sent: at,
			Done: at.Add(5*time.Millisecond + rnd.Exp(3*time.Millisecond)), Status: 200, Reply: 3, Batch: 1,
			Instance: int32(i / 100)}
		v.Received = v.Done - 1000
		d := record.Delivery{Event: int64(i), Attempts: 1, Ended: v.Done}
		if i%100 == 0 {
			v.Class = engine.Cold
		}
		if i%10 == 9 { // a message
			a.Source, a.Payload, v.Function, v.Source, v.Instance, d.Source = 1, 1, 1, 1, 4, 1
		}
		if i%50 == 49 {
			v.Status, v.Reply, d.Outcome = 500, 4, engine.DeadLettered
		}
		r.Arrivals = append(r.Arrivals, a)
		if i%20 == 3 {
			d.Outcome = engine.Rejected
		} else {
			d.Invocation = v.ID
			r.Invocations = append(r.Invocations, v)
			r.Attempts = append(r.Attempts, record.Attempt{Event: int64(i), Invocation: v.ID, Source: a.Source, N: 1,
				Result: map[bool]engine.Result{true: engine.BadStatus}[v.Status == 500]})
		}
		r.Deliveries = append(r.Deliveries, d)
	}
	page := report.NewPage(r)
	return &Source{Run: r, Page: page, Began: time.Date(2026, 1, 1, 18, 0, 0, 0, time.UTC), Blob: func(n int32) []byte {
		if n < 1 || int(n) > len(r.Blobs) {
			return nil
		}
		return r.Blobs[n-1]
	}}
}

// Pictures are SVG that an XML parser takes, and PDF; they hold a mark for each thing
// that the run has to show, their texts are texts, and other readers open them too.
func TestPicturesHoldEverything(t *testing.T) {
	s := quay()
	steps := len(s.Page.Time.Functions[0].Done)
	filled := 0
	for _, sp := range s.Page.Spreads {
		for c := range sp.Latency {
			for _, n := range sp.Latency[c].Counts {
				if n > 0 {
					filled++
				}
			}
		}
	}
	points := len(s.Page.Summary.Functions["quote"].WarmUp.Points) + len(s.Page.Summary.Functions["gate"].WarmUp.Points)
	least := map[string]int{"lanes": len(s.Run.Invocations) + len(s.Run.Instances), "ladder": 0, "distribution": filled,
		"warm-up": points, "timeline": 4 * steps}
	words := map[string]string{"lanes": "quote|gate", "ladder": "4 starts", "distribution": "warm, ",
		"warm-up": "Warm-up", "timeline": "rejected, failed"}
	comparison := report.Compare("quote", []measure.Side{{Label: "quote", Run: s.Run},
		{Label: "gate", Run: s.Run, Function: 1}}, nil)
	dir := t.TempDir()
	draw := map[string]func(to io.Writer, kind string) error{"comparison": func(to io.Writer,
		kind string) error {
		return Comparison(to, kind, Size{}, comparison)
	}}
	for i := range Charts {
		draw[Charts[i].Name] = func(to io.Writer, kind string) error { return Charts[i].Write(to, kind, Size{}, s) }
		if got := Charts[i].draw("svg", Size{}, s).marks; got < least[Charts[i].Name] {
			t.Errorf("%s: %d marks, want at least %d", Charts[i].Name, got, least[Charts[i].Name])
		}
	}
	for name, write := range draw {
		for _, kind := range []string{"svg", "pdf"} {
			var b bytes.Buffer
			if err := write(&b, kind); err != nil {
				t.Fatal(err)
			}
			path := filepath.Join(dir, name+"."+kind)
			if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			reader := exec.Command("pdftoppm", "-r", "20", "-png", path, path)
			if kind == "svg" {
				elements, texts := parsed(t, b.Bytes())
				if elements < least[name] {
					t.Errorf("%s: %d paths, want at least %d", name, elements, least[name])
				}
				for want := range strings.SplitSeq(words[name], "|") {
					if !strings.Contains(texts, want) {
						t.Errorf("%s: %q is not in %s", name, want, texts)
					}
				}
				if name != "comparison" && !strings.Contains(texts, `quay <&> "ropes"`) {
					t.Errorf("%s: the project's name is not a text: %s", name, texts)
				}
				reader = exec.Command("rsvg-convert", "-o", path+".png", path)
			}
			if reader.Err == nil { // where the machine has it
				if out, err := reader.CombinedOutput(); err != nil {
					t.Errorf("%s: %v: %s", path, err, out)
				}
			}
		}
	}
	// of another size, and of a run in which nothing happened
	empty := &Source{Run: &record.Run{Busy: math.NaN(), Functions: []record.Function{{Name: "f"}},
		Sources: []record.Source{{Name: "s", To: []int{0}}}}, Blob: s.Blob}
	empty.Page = report.NewPage(empty.Run)
	for i := range Charts {
		for _, x := range []*Source{s, empty} {
			if err := Charts[i].Write(io.Discard, "pdf", Size{300, 200}, x); err != nil {
				t.Error(err)
			}
		}
	}
}

// parsed reads an SVG as XML, and counts what it draws.
func parsed(t *testing.T, svg []byte) (paths int, texts string) {
	t.Helper()
	for d := xml.NewDecoder(bytes.NewReader(svg)); ; {
		token, err := d.Token()
		if err == io.EOF {
			return paths, texts
		} else if err != nil {
			t.Fatal(err)
		}
		switch x := token.(type) {
		case xml.StartElement:
			if x.Name.Local == "path" {
				paths++
			}
		case xml.CharData:
			texts += strings.TrimSpace(string(x)) + "|"
		}
	}
}

// The CSV has a row for each invocation, and the figures computed from it are those
// of the summary.
func TestTheCSVIsTheRun(t *testing.T) {
	s := quay()
	var b bytes.Buffer
	if err := CSV(&b, s); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != len(s.Run.Invocations)+1 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	at := map[string]int{}
	for i, name := range rows[0] {
		at[name] = i
	}
	var warm stats.Population
	for _, row := range rows[1:] {
		if row[at["function"]] == "quote" && row[at["class"]] == "warm" {
			ms, err := strconv.ParseFloat(row[at["latency_ms"]], 64)
			if err != nil {
				t.Fatal(err)
			}
			warm.Add(time.Duration(math.Round(ms * 1e6)))
		}
		if row[at["source"]] == "fares" && row[at["event"]] != "GET /quote/holm?cars=1,\r\n\"x\"" &&
			row[at["event"]] != "GET /quote/holm?cars=1,\n\"x\"" {
			t.Fatalf("the event is %q", row[at["event"]])
		}
	}
	want := s.Page.Summary.Functions["quote"].Latency.Warm
	if got := warm.Percentile(0.95, stats.Serial); warm.N() != want.N || figure.Milliseconds(got.Value) != *want.P95 {
		t.Errorf("from the CSV: n %d, p95 %v; the summary has %d, %v", warm.N(), got.Value, want.N, *want.P95)
	}
}

// The other forms, read by readers of their own.
func TestOtherForms(t *testing.T) {
	s := quay()
	write := func(of func(io.Writer, *Source) error) *bytes.Buffer {
		t.Helper()
		var b bytes.Buffer
		if err := of(&b, s); err != nil {
			t.Fatal(err)
		}
		return &b
	}
	log := hdrhistogram.NewHistogramLogReader(write(HDR))
	n := map[string]int64{}
	for {
		h, err := log.NextIntervalHistogram()
		if err != nil || h == nil {
			break
		}
		n[h.Tag()] += h.TotalCount()
	}
	if q := s.Page.Summary.Functions["quote"].Latency; n["quote.warm"] != int64(q.Warm.N) ||
		n["quote.cold"] != int64(q.Cold.N) {
		t.Errorf("the histograms hold %v; the summary has %d and %d", n, q.Warm.N, q.Cold.N)
	}

	metrics := write(OpenMetrics).String()
	// the sum is that of all latencies, each from its own row of the CSV
	sum, failed := 0.0, 0
	rows, err := csv.NewReader(write(CSV)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	column := func(name string) int { return slices.Index(rows[0], name) }
	for _, row := range rows[1:] {
		if row[column("function")] == "quote" && row[column("class")] == "warm" {
			ms, _ := strconv.ParseFloat(row[column("latency_ms")], 64)
			sum += ms / 1000
		}
		if row[column("status")] == "500" {
			if failed++; row[column("result")] != "bad status" {
				t.Errorf("a row of the status 500 has the result %q", row[column("result")])
			}
		}
	}
	said := regexp.MustCompile(
		`nightdrill_latency_seconds_sum\{function="quote",class="warm"\} (\S+)`).FindStringSubmatch(metrics)
	if got, err := strconv.ParseFloat(append(said, "", "")[1], 64); err != nil || math.Abs(got-sum) > 1e-6 ||
		failed == 0 {
		t.Errorf("the sum is %v, of the rows %v", said, sum)
	}
	p95 := strconv.FormatFloat(*s.Page.Summary.Functions["quote"].Latency.Warm.P95/1000, 'g', -1, 64)
	for _, want := range []string{`nightdrill_latency_seconds{function="quote",class="warm",quantile="0.95"} ` + p95,
		`# TYPE nightdrill_latency_seconds summary`,
		`nightdrill_deliveries{source="scans",outcome="dead_lettered"} 8`, `project="quay <&> \"ropes\""`, "# EOF\n"} {
		if !strings.Contains(metrics, want) {
			t.Errorf("%q is not in\n%s", want, metrics)
		}
	}

	var suite struct {
		Tests, Failures, Skipped int `xml:",attr"`
		Cases                    []struct {
			Name    string    `xml:"name,attr"`
			Failure *struct{} `xml:"failure"`
			Skipped *struct{} `xml:"skipped"`
		} `xml:"testcase"`
	}
	if err := xml.Unmarshal(write(JUnit).Bytes(), &suite); err != nil {
		t.Fatal(err)
	}
	if len(suite.Cases) != 3 || suite.Cases[0].Failure == nil || suite.Cases[1].Failure != nil ||
		suite.Cases[2].Skipped == nil {
		t.Errorf("the suite is %+v", suite)
	}

	page := write(HTML).String()
	for _, want := range []string{"<svg", "quay &lt;&amp;&gt;", "was missed", `class="missed">missed<`,
		`class="met">met<`,
		`class="quiet">too few samples<`,
		figure.Millis(s.Page.Summary.Functions["quote"].Latency.Warm.P50)} {
		if !strings.Contains(page, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	for _, bad := range []string{"<script", "src=", "@import", "ZgotmplZ"} {
		if strings.Contains(page, bad) {
			t.Errorf("the page has %q", bad)
		}
	}
	if got := strings.Count(page, "<svg"); got != len(Charts) {
		t.Errorf("%d pictures in the page", got)
	}
}

// Requests and events read back as payload sets: all of them, or those alone that
// came to a bad end.
func TestRequestsAndEventsAreSetsAgain(t *testing.T) {
	s := quay()
	for name, c := range map[string]struct {
		write func(io.Writer) (int, error)
		n     int
	}{
		"requests":      {func(to io.Writer) (int, error) { return HAR(to, s, nil) }, 360},
		"events":        {func(to io.Writer) (int, error) { return Events(to, s, nil) }, 40},
		"lost requests": {func(to io.Writer) (int, error) { return HAR(to, s, Lost) }, 0},
		"lost events":   {func(to io.Writer) (int, error) { return Events(to, s, Lost) }, 8},
	} {
		var b bytes.Buffer
		n, err := c.write(&b)
		if err != nil || n != c.n {
			t.Fatalf("%s: %d, want %d, %v", name, n, c.n, err)
		}
		got, mistakes := payload.Read(b.Bytes())
		if n > 0 && (len(got) != n || len(mistakes) > 0) {
			t.Fatalf("%s: %d read back, %v", name, len(got), mistakes)
		}
		if name == "requests" {
			if !json.Valid(b.Bytes()) {
				t.Error("the archive is not JSON")
			}
			p := got[0]
			if p.Request.Target != "/quote/holm?cars=1" || p.Reply == nil || string(p.Reply.Body) != `{"cents":450}` ||
				p.Reply.Header[0].Value != "application/json" || !p.Time.Equal(s.Began.Add(40*time.Millisecond)) {
				t.Errorf("%+v %+v at %v", p.Request, p.Reply, p.Time)
			}
		}
		if name == "events" && (got[0].Event.ID != "s1~10" || !got[0].Time.Equal(s.Began.Add(220*time.Millisecond))) {
			t.Errorf("%s at %v", got[0].Event.ID, got[0].Time)
		}
	}
}
