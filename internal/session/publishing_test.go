package session

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
)

// Every event that is published is counted, of far more than are kept, while they wait and when they are done.
func TestPublishedEventsAreCounted(t *testing.T) {
	s, dir := lay(t, standing)
	url, _ := s.Publishing()
	jobs := s.Plan().SourceNamed("jobs")
	const batches, each = 4, 400 // more than are kept
	for b := range batches {
		var list []string
		for i := range each {
			list = append(list, fmt.Sprintf(`{"specversion":"1.0","id":"%d-%d","source":"/quay","type":"job"}`, b, i))
		}
		batch := "[" + strings.Join(list, ",") + "]"
		if status, _, text := ask(t, "POST", url+"/jobs", batch, "Content-Type", event.BatchType); status != 202 {
			t.Fatalf("status %d: %s", status, text)
		}
		if b == 0 {
			until(t, "some are done", func() bool { return s.Traffic().Sources[jobs].Wires[0].Done > 0 })
		}
	}
	until(t, "all are counted", func() bool {
		x := s.Traffic().Sources[jobs]
		if most := batches * each; x.Arrived > most || x.Published > most || x.Wires[0].Done > most {
			t.Fatalf("of %d published: %+v", most, x)
		}
		return x.Arrived == batches*each && x.Published == x.Arrived && x.Wires[0].Done == x.Arrived
	})

	// no more than there is room for are taken
	s.mu.Lock()
	s.waiting += mostWaiting
	s.mu.Unlock()
	status, header, text := ask(t, "POST", url+"/jobs", "one", "Content-Type", "text/plain")
	if status != 503 || header.Get("Retry-After") == "" || !strings.Contains(text, "room for 100000") {
		t.Errorf("a full queue answers %d %v %q", status, header, text)
	}
	s.mu.Lock()
	s.waiting -= mostWaiting
	s.mu.Unlock()

	// failed events are sent again, each once, by their queue or by the one that has their dead letters
	refuse := event.Event{ID: "r", Source: "/quay", Type: "job", Data: []byte("refuse")}
	for _, queue := range []string{"jobs", "refused"} {
		if status, _, text := ask(t, "POST", url+"/jobs", string(refuse.AppendJSON(nil)), "Content-Type",
			event.StructuredType); status != 202 {
			t.Fatalf("status %d: %s", status, text)
		}
		until(t, "it is dead-lettered", func() bool { return s.Traffic().Sources[jobs].Wires[0].Bad > 0 })
		n := 0
		until(t, "it can be sent again", func() bool {
			status, _, text := ask(t, "POST", url+"/"+queue+"?dead-letters", "")
			_, err := fmt.Sscan(text, &n)
			return status == 202 && err == nil && n > 0
		})
	}
	if _, _, text := ask(t, "POST", url+"/nowhere?dead-letters", ""); !strings.Contains(text, "no source") {
		t.Error(text)
	}

	// a file is published whole or not at all
	write(t, dir, "two.ndjson", `{"specversion":"1.0","id":"a","source":"/quay","type":"job"}
{"specversion":"1.0","source":"/quay","type":"job"}`)
	if n, err := s.PublishFile("jobs", "two.ndjson"); err == nil || !strings.Contains(err.Error(), "line 2") {
		t.Errorf("%d were published, %v", n, err)
	}
	write(t, dir, "one.json", `[{"specversion":"1.0","id":"a","source":"/quay","type":"job"}]`)
	if n, err := s.PublishFile("jobs", filepath.Join(dir, "one.json")); n != 1 || err != nil {
		t.Errorf("%d were published, %v", n, err)
	}
	for source, file := range map[string]string{"asks": "one.json", "jobs": "none.json"} {
		if _, err := s.PublishFile(source, file); err == nil {
			t.Errorf("%s takes %s", source, file)
		}
	}
	until(t, "the file's is counted", func() bool {
		return s.Traffic().Sources[jobs].Wires[0].Done == batches*each+1
	})

	// while a drill has the functions none is sent, and none is forgotten
	until(t, "it failed again", func() bool { return s.Traffic().Sources[jobs].Wires[0].Bad >= 4 })
	kept := func(least int) (n int) {
		until(t, "all is over", func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			n = len(s.letters.all)
			return s.waiting == 0 && n >= least
		})
		return n
	}
	before := kept(1)
	s.Pause("a drill runs")
	if status, _, text := ask(t, "POST", url+"/jobs?dead-letters", ""); status != 503 ||
		!strings.Contains(text, "a drill runs") {
		t.Errorf("status %d: %s", status, text)
	}
	s.Resume()
	n, err := s.SendAgain("jobs")
	if n != before || err != nil {
		t.Errorf("%d of %d were sent again after it, %v", n, before, err)
	}

	// of far more than are shown, each can be sent again
	bad := func() int { return s.Traffic().Sources[jobs].Wires[0].Bad }
	kept(n)
	before = bad()
	if n, err = s.SendAgain("jobs"); err != nil {
		t.Fatal(err)
	}
	const many = keptFirings + 200
	batch := "[" + strings.Repeat(string(refuse.AppendJSON(nil))+",", many-1) + string(refuse.AppendJSON(nil)) + "]"
	if status, _, text := ask(t, "POST", url+"/jobs", batch, "Content-Type", event.BatchType); status != 202 {
		t.Fatalf("status %d: %s", status, text)
	}
	until(t, "all of them failed", func() bool { return bad() >= before+n+many })
	kept(n + many)
	if again, err := s.SendAgain("refused"); again != n+many || err != nil {
		t.Errorf("%d of %d were sent again, %v", again, n+many, err)
	}
}
