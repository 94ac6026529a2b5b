package session

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/live/broker/brokertest"
)

// Sources get messages of brokers while the session has its functions: what is taken is acknowledged by its outcome, a
// failed message is kept and rejected, and while a drill runs brokers are left alone.
func TestSourcesAreFedFromBrokers(t *testing.T) {
	rabbit, nats := brokertest.Serve(t, "amqp"), brokertest.Serve(t, "nats")
	rabbit.Declare()
	nats.Declare()
	t.Setenv("HARBOUR", brokertest.Secret)
	var mu sync.Mutex
	seen := map[string]int{}
	function := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		seen[r.URL.Path+string(body)]++
		mu.Unlock()
		if n := 0; r.URL.Path == "/crew" {
			if fmt.Sscanf(string(body), `{"n":%d}`, &n); n%10 == 7 {
				http.Error(w, "no", http.StatusInternalServerError)
			}
		}
	}))
	defer function.Close()
	count := func(path string) int {
		mu.Lock()
		defer mu.Unlock()
		n := 0
		for key := range seen {
			if strings.HasPrefix(key, path+"{") {
				n++
			}
		}
		return n
	}
	dir := t.TempDir()
	write(t, dir, "nightdrill.yaml", fmt.Sprintf(`nightdrill: 1
brokers:
  harbour: {url: "amqp://quay@127.0.0.1:%d", password: {env: HARBOUR}}
  radio: {url: "nats://quay@127.0.0.1:%d", password: {env: HARBOUR}}
functions:
  crew: {transport: attach, url: "%[3]s", path: /crew, concurrency: {max: 2}}
  desk: {transport: attach, url: "%[3]s", path: /desk, concurrency: {max: 2}}
sources:
  jobs: {kind: queue, attempts: 2, backoff: 1ms, taken_from: {broker: harbour, queue: jobs}, wires: [{to: crew}]}
  calls: {kind: stream, copied_from: {broker: radio, subject: "quay.>"}, wires: [{to: desk}]}
drills:
  watch: {settle: 2s, feeds: [{source: jobs, live: 3s}, {source: calls, live: 3s}]}
`, rabbit.Port, nats.Port, function.URL))
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	s, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	ready := func() bool {
		all := s.BrokerFeeds()
		return len(all) == 2 && all[0].Trouble == "" && all[1].Trouble == ""
	}
	until(t, "both are fed", ready)
	rabbit.Publish(0, 20)
	nats.Publish(0, 10)
	until(t, "all came", func() bool { return count("/crew") == 20 && count("/desk") == 10 })
	until(t, "all have their outcome", func() bool { return s.BrokerFeeds()[0].Held == 0 })
	if f := s.BrokerFeeds(); f[0].Came != 20 || f[0].Failed != 2 || !f[0].Takes || f[1].Came != 10 || f[1].Takes ||
		f[0].Place != "queue jobs" || f[1].Broker != "radio" {
		t.Errorf("%+v", f)
	}
	mu.Lock()
	if n := seen[`/crew{"n":7}`]; n != 2 {
		t.Errorf("the message that fails was tried %d times, want 2", n)
	}
	mu.Unlock()
	kept, _ := os.ReadFile(filepath.Join(dir, ".nightdrill", FailedDir, "jobs.ndjson"))
	if lines := strings.Split(strings.TrimSpace(string(kept)), "\n"); len(lines) != 2 || !strings.Contains(string(kept),
		`"id":"e7"`) {
		t.Errorf("kept are %s", kept)
	}
	c, ch := rabbit.AMQP()
	defer c.Close()
	waiting := func() int {
		q, err := ch.QueueDeclarePassive("jobs", true, false, false, false, amqp.Table{})
		if err != nil {
			t.Fatal(err)
		}
		return q.Messages
	}
	if n := waiting(); n != 0 {
		t.Errorf("%d messages are left in the queue", n)
	}

	// a drill has the functions: messages wait at their brokers
	s.Pause("a drill runs")
	rabbit.Publish(30, 33)
	until(t, "they wait", func() bool { return waiting() == 3 })
	s.Resume()
	until(t, "they are taken after it", func() bool { return count("/crew") == 23 && waiting() == 0 })

	// other than for feeds that are live: those take and copy, and acknowledge
	s.Pause("a drill runs")
	r, err := d.Start(t.Context(), d.DrillNamed("watch"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for n := 66; ; n++ { // the second of them fails
		select {
		case <-r.Done():
		case <-time.After(50 * time.Millisecond):
			rabbit.Publish(n, n+1)
			nats.Publish(n, n+1)
			continue
		}
		break
	}
	run := r.Snapshot()
	counts := measure.Analyze(run).Summary.Sources
	if jobs, calls := counts["jobs"], counts["calls"]; jobs.Arrived < 2 || jobs.Done+jobs.Failed != jobs.Arrived ||
		jobs.Failed == 0 || calls.Arrived < 2 || calls.Done != calls.Arrived || !run.Finished ||
		!strings.Contains(strings.Join(run.Notes, "\n"), "cannot be carried out again") {
		t.Errorf("%+v\n%+v\n%v", jobs, calls, run.Notes)
	}
	s.Resume()
	until(t, "the rest is taken after it", func() bool {
		return waiting() == 0 && ready() && s.BrokerFeeds()[0].Held == 0
	})

	// what passes is recorded beside that, and shown as it comes
	for _, x := range [][2]string{{"", "name a broker"}, {"port as=x", `unknown broker "port"`},
		{"radio subject=quay.>",
			"as=NAME"},
		{"radio topic=x as=x", "not by topic"}, {"radio as", "with a value"}, {"amqp://a:s3cret@h as=x",
			"has a password"}} {
		if _, err := s.ParseCopy(x[0]); err == nil || !strings.Contains(err.Error(), x[1]) ||
			strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%q: %v", x[0], err)
		}
	}
	watch, err := s.ParseCopy("radio subject=quay.> as=heard")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.CopyFrom(watch); err != nil {
		t.Fatal(err)
	}
	until(t, "it copies", func() bool { c, _ := s.CopyingNow(); return c.Ready })
	if err := s.CopyFrom(watch); err == nil {
		t.Error("two recordings at once")
	}
	nats.Publish(500, 509)
	until(t, "they are shown", func() bool { c, _ := s.CopyingNow(); return c.Count == 9 && len(c.Latest) == 6 })
	if said, err := s.StopCopying(); err != nil || said != "9 messages recorded as heard" {
		t.Errorf("%q, %v", said, err)
	}
	until(t, "it is a set of the project", func() bool { return s.Plan().SetNamed("heard") >= 0 })
	until(t, "its sources are fed again", ready)

	// a broker that goes away is connected to again, and what is wrong is said without the password
	settled := count("/crew")
	rabbit.Stop()
	until(t, "it is noticed", func() bool { return strings.Contains(logText(s), "connection to harbour is lost") })
	rabbit.Start()
	until(t, "it is connected to again", func() bool {
		return strings.Contains(logText(s),
			"connected to harbour again")
	})
	rabbit.Publish(10_000, 10_001)
	until(t, "messages come again", func() bool { return count("/crew") > settled })
	if strings.Contains(logText(s), "s3cret") {
		t.Error("the password is in the log")
	}
}

// logText returns the whole log.
func logText(s *Session) string {
	var b strings.Builder
	all, _, _ := s.Log.After(0)
	for _, l := range all {
		b.WriteString(l.Text + "\n")
	}
	return b.String()
}
