package runner

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/proc"
)

// byHand starts a function, connects to its port as soon as that goes, sends one
// request and reads the reply: what adding an instance costs at least.
func byHand(b *testing.B) time.Duration {
	port, err := proc.FreePort()
	if err != nil {
		b.Fatal(err)
	}
	defer proc.GiveBack(port)
	self, _ := os.Executable()
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), "AS_FUNCTION=plain", "PORT="+strconv.Itoa(port))
	began := time.Now()
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	for {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
			break
		}
		time.Sleep(100 * time.Microsecond)
	}
	reply, err := http.Post("http://"+address+"/x", "text/plain", nil)
	if err != nil {
		b.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, reply.Body)
	reply.Body.Close()
	return time.Since(began)
}

// BenchmarkAddInstance compares a cold start under the driver, from the event's due
// to its reply, with the same by hand: medians of starts in turns, without bounds
// and with.
func BenchmarkAddInstance(b *testing.B) {
	Tune()
	farewell, err := proc.Guard(nil)
	if err != nil {
		b.Fatal(err)
	}
	defer farewell()
	for _, bounds := range []proc.Bounds{{}, {Memory: 256 << 20, CPU: 2}} {
		b.Run(fmt.Sprintf("bounded=%v", bounds != proc.Bounds{}), func(b *testing.B) {
			p, _ := testProject("plain", false, "a")
			p.Functions[0].Memory, p.Functions[0].CPU = bounds.Memory, bounds.CPU
			d := Follow(plan.Expand(p), Config{ID: "bench"})
			ctx, stop := context.WithCancel(b.Context())
			over := make(chan struct{})
			go func() {
				defer close(over)
				d.Run(ctx)
			}()
			defer func() {
				stop()
				<-over
			}()
			var hand, driven []time.Duration
			for range max(b.N, 25) {
				hand = append(hand, byHand(b))
				t := d.Fire(Event{Payload: &p.Sets[0].Payloads[0], Routes: 1, Cold: true})
				<-t.Done()
				x := d.Look(t)
				if len(x.Attempts) != 1 || x.Attempts[0].Invocation.Status != 200 ||
					x.Attempts[0].Invocation.Class != engine.Cold {
					b.Fatalf("%+v", x.Attempts)
				}
				driven = append(driven, x.Attempts[0].Invocation.Done.Sub(x.Arrived))
				d.step(engine.Input{Kind: engine.Clear}, nil)
				for calm := false; !calm; {
					d.mu.Lock()
					calm = len(d.alive) == 0
					d.mu.Unlock()
					runtime.Gosched()
				}
			}
			slices.Sort(hand)
			slices.Sort(driven)
			x, y := hand[len(hand)/2], driven[len(driven)/2]
			b.ReportMetric(float64(y)/float64(x), "of-by-hand")
			b.ReportMetric(float64(y-x)/1e6, "ms-more")
			b.ReportMetric(float64(x)/1e6, "ms-by-hand")
		})
	}
}

// BenchmarkSample returns the share of a processor that reading what 40 instances use
// costs.
func BenchmarkSample(b *testing.B) {
	for _, bounds := range []proc.Bounds{{}, {Memory: 256 << 20, CPU: 2}} {
		b.Run(fmt.Sprintf("bounded=%v", bounds != proc.Bounds{}), func(b *testing.B) {
			var all []*proc.Process
			for range 40 {
				p, err := proc.Start(proc.Command{Args: []string{"sleep", "600"}, Bounds: bounds})
				if err != nil {
					b.Fatal(err)
				}
				defer p.Kill()
				all = append(all, p)
			}
			b.ResetTimer()
			for range b.N {
				for _, p := range all {
					p.Used()
				}
			}
			b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(sampleEvery)*100, "%-of-a-core")
		})
	}
}
