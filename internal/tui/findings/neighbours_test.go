package findings

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/tui/msg"
)

// What functions called and the spans that they sent are in tables of their own, at every size; v asks for another
// setting of the upstream that takes most of the time.
func TestNeighbours(t *testing.T) {
	d, _ := open(t)
	if d.press("v"); !strings.Contains(d.last().(msg.Note).Text, "no upstreams") {
		t.Errorf("without upstreams: %v", d.last())
	}
	run := sample()
	run.Upstreams = []record.Upstream{{Name: "rates", Mode: "pass"}, {Name: "berths", Mode: "replay", Recorded: 9}}
	run.SpanNames = []string{"SELECT fares"}
	run.Functions[0].Spans = true
	for i := range run.Invocations {
		v := &run.Invocations[i]
		v.Class = engine.Warm
		took := v.Done - v.Sent
		run.Calls = append(run.Calls, record.Call{Invocation: v.ID, Upstream: 1, Function: v.Function, Status: 200,
			Instance: v.Instance, Began: v.Sent, First: v.Sent + took/2, Done: v.Sent + took/2,
			Way: record.CallReplayed},
			record.Call{Invocation: v.ID, Function: v.Function, Instance: v.Instance, Status: 503, Began: v.Done -
				clock.Time(time.Millisecond), Done: v.Done})
		if v.Function == 0 {
			for n := range 3 {
				run.Spans = append(run.Spans, record.Span{Event: int64(i), Invocation: v.ID, ID: uint64(1000*i + n),
					Name:   1,
					Parent: v.ID, Begin: v.Sent + clock.Time(n)*took/4, End: v.Sent + clock.Time(n+1)*took/4})
			}
		}
	}
	d.Show(report.NewPage(run))
	for _, size := range [][2]int{{160, 47}, {100, 30}, {80, 24}} {
		d.Resize(size[0], size[1]-3)
		d.scroll.At = 0
		text := d.press()
		for range 30 {
			text += d.press("pgdown")
		}
		for _, want := range []string{"quote → berths", "quote → rates", "replay", "of warm", "SELECT fares",
			"own time"} {
			if !strings.Contains(text, want) {
				t.Errorf("at %v %q is not shown", size, want)
			}
		}
	}
	d.press("v")
	if ask, ok := d.last().(msg.Ask); !ok || ask.Text != "berths.times=0.5" {
		t.Fatalf("%#v", d.last())
	}
	d.asked("rates.fail=5%")
	if got, ok := d.last().(Vary); !ok || got.Change != "rates.fail=5%" || got.Function == "" {
		t.Errorf("%#v", d.last())
	}
}
