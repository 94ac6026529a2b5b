package ingest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gomodule/redigo/redis"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/broker"
	"nightdrill.dev/internal/live/broker/brokertest"
)

// Copying to a file against a bare loop over the client library that reads the same entries, both while they are
// written:
// how many times as fast, in one run.
func BenchmarkCopyingToAFile(b *testing.B) {
	s := brokertest.Serve(b, "redis")
	s.Declare()
	dir := b.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "nightdrill.yaml"), []byte("nightdrill: 1\nfunctions:\n  f: {start: "+
		"[x]}\n"),
		0o644); err != nil {
		b.Fatal(err)
	}
	const n = 100_000
	body := `{"pass": "BF-7", "crew": "west", "note": "` + strings.Repeat("calm sea ", 20) + `"}`
	write := func() {
		c := s.Redis()
		defer c.Close()
		for i := range n {
			if err := c.Send("XADD", "scans", "*", "data", body); err != nil {
				b.Error(err)
				return
			}
			if i%1000 == 999 {
				_ = c.Flush() // what fails is seen by who reads
				for range 1000 {
					if _, err := c.Receive(); err != nil {
						b.Error(err)
						return
					}
				}
			}
		}
	}
	bare := func() time.Duration {
		c := s.Redis()
		defer c.Close()
		last, _ := redis.String(c.Do("XADD", "scans", "*", "data", "begin"))
		began := time.Now()
		go write()
		for got := 0; got < n; {
			reply, err := redis.Values(c.Do("XREAD", "COUNT", 500, "BLOCK", 500, "STREAMS", "scans", last))
			if err != nil {
				continue
			}
			stream, _ := redis.Values(reply[0], nil)
			entries, _ := redis.Values(stream[1], nil)
			got += len(entries)
			end, _ := redis.Values(entries[len(entries)-1], nil)
			last, _ = redis.String(end[0], nil)
		}
		return time.Since(began)
	}
	round := 0
	copied := func() time.Duration {
		round++
		var began time.Time
		x, err := Copy{Server: &broker.Server{Name: "harbour", Kind: "redis", Address: fmt.Sprint("127.0.0.1:", s.Port),
			User: "quay", Password: s.Password()}, At: plan.BrokerPlace{Stream: "scans"}, Name: fmt.Sprint("scans",
			round),
			Count: n, Ready: func() {
				began = time.Now()
				go write()
			}}.Run(context.Background(), dir)
		if err != nil || x.Count != n || x.Missing > 0 {
			b.Fatalf("%v: %+v", err, x)
		}
		return time.Since(began)
	}
	var loop, file time.Duration
	for b.Loop() {
		loop, file = loop+bare(), file+copied()
	}
	b.ReportMetric(float64(loop)/float64(file), "of-bare")
	b.ReportMetric(n*float64(b.N)/file.Seconds(), "messages/s")
}
