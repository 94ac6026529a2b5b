package session

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill/internal/core/event"
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
}
