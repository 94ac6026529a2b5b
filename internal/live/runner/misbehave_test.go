package runner

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/live/proc"
)

// programs are functions that misbehave, each in one way. A program that returns
// goes on to serve as a good function does.
var programs = map[string]func(l net.Listener, requests *atomic.Int32) http.HandlerFunc{
	"exits with 0 after a second": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		time.AfterFunc(time.Second, func() { os.Exit(0) })
		return nil
	},
	"ready and then closes the port": func(l net.Listener, _ *atomic.Int32) http.HandlerFunc {
		return func(http.ResponseWriter, *http.Request) { l.Close() } // the first is answered
	},
	"hangs": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		return func(http.ResponseWriter, *http.Request) { select {} }
	},
	"answers after its timeout": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			<-r.Context().Done() // whoever asked has given up
			fmt.Fprint(w, "at last")
		}
	},
	"half an answer": raw(func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf of")
		c.Close()
	}),
	"garbage instead of HTTP": raw(func(c net.Conn) {
		_, _ = c.Write([]byte("\x00\xff\x1b[2Jtide\r\n\r\n\r\n"))
	}),
	"an endless answer": raw(func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n")
		for chunk := "10000\r\n" + strings.Repeat("x", 0x10000) + "\r\n"; ; {
			if _, err := io.WriteString(c, chunk); err != nil {
				return
			}
		}
	}),
	"a gigabyte of headers": raw(func(c net.Conn) {
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\n")
		for n := range 1 << 30 >> 16 {
			if _, err := fmt.Fprintf(c, "x-%d: %s\r\n", n, strings.Repeat("h", 1<<16)); err != nil {
				return
			}
		}
	}),
	"a flood on standard error": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		go func() {
			for {
				os.Stderr.WriteString(strings.Repeat("the tide comes in ", 1000) + "\n")
			}
		}()
		return nil
	},
	"ignores SIGTERM": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		signal.Ignore(syscall.SIGTERM)
		return nil
	},
	"forks children that outlive it": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		for _, own := range []bool{false, true} { // one leaves the session too
			child := exec.Command("sh", "-c", "trap '' TERM HUP; while :; do sleep 0.2; done")
			child.SysProcAttr = &syscall.SysProcAttr{Setsid: own}
			if err := child.Start(); err != nil {
				panic(err)
			}
		}
		return nil
	},
	"starts a child with an empty environment in a session of its own": func(net.Listener,
		*atomic.Int32) http.HandlerFunc {
		child := exec.Command("/bin/sh", "-c", "trap '' TERM HUP; while :; do sleep 0.2; done")
		child.Env, child.SysProcAttr = []string{}, &syscall.SysProcAttr{Setsid: true}
		if err := child.Start(); err != nil {
			panic(err)
		}
		return nil
	},
	"fills its memory": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		return func(http.ResponseWriter, *http.Request) {
			var hold [][]byte
			for range 4096 {
				b := make([]byte, 1<<20)
				for i := 0; i < len(b); i += 4096 {
					b[i] = 1
				}
				hold = append(hold, b)
			}
			runtime.KeepAlive(hold)
		}
	},
	"uses all CPUs": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		for range runtime.NumCPU() {
			go func() {
				for n := 0; ; n++ {
				}
			}()
		}
		return nil
	},
	"opens ten thousand files": func(net.Listener, *atomic.Int32) http.HandlerFunc {
		for range 10_000 { // as many as it is allowed
			if _, err := os.Open("/dev/null"); err != nil {
				break
			}
		}
		return func(http.ResponseWriter, *http.Request) {}
	},
	"crashes on every second request": func(_ net.Listener, requests *atomic.Int32) http.HandlerFunc {
		return func(http.ResponseWriter, *http.Request) {
			if requests.Add(1) == 2 {
				os.Exit(9)
			}
		}
	},
}

// raw is a program that speaks to each connection by itself, once a request came.
func raw(speak func(net.Conn)) func(net.Listener, *atomic.Int32) http.HandlerFunc {
	return func(l net.Listener, _ *atomic.Int32) http.HandlerFunc {
		for {
			c, err := l.Accept()
			if err != nil {
				return nil
			}
			go func() {
				if n, err := c.Read(make([]byte, 64<<10)); n == 0 || err != nil {
					c.Close() // someone looked whether the port is open
					return
				}
				speak(c)
			}()
		}
	}
}

// misbehave is the whole life of a function that misbehaves.
func misbehave(kind string) {
	address := "127.0.0.1:" + os.Getenv("PORT")
	switch kind {
	case "exits at once":
		fmt.Println("no tide table found")
		os.Exit(3)
	case "never ready":
		select {}
	case "changes its own process group":
		self, _ := os.Executable()
		child := exec.Command(self)
		child.Env = append(os.Environ(), "AS_FUNCTION=plain")
		child.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		fmt.Println(child.Run())
		return
	case "refuses connections for a while":
		l, _ := net.Listen("tcp", address)
		l.Close()
		time.Sleep(600 * time.Millisecond)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		fmt.Println(err)
		return
	}
	handler := http.HandlerFunc(func(http.ResponseWriter, *http.Request) {})
	if program := programs[kind]; program != nil {
		if h := program(l, &atomic.Int32{}); h != nil {
			handler = h
		}
	}
	_ = http.Serve(l, handler)
	select {}
}

// Each way to misbehave costs its own attempts and nothing else: it has the stated
// outcome and a plain reason, the function beside it is not disturbed, and nothing
// is left of it.
func TestMisbehaviour(t *testing.T) {
	baseline := leftovers()
	for _, c := range []struct {
		kind    string
		done    int // of six requests, one every 300 ms; -1 for some
		result  engine.Result
		why     string // in the notes
		reason  engine.Reason
		prepare func(*plan.Function)
	}{
		{"exits at once", 0, engine.StartFailure, "f does not start: it exited with code 3 before it was ready; its " +
			"last line: no tide table found", engine.Crashed, nil},
		{"exits with 0 after a second", -1, engine.OK, "f crashed: it exited with code 0", engine.Crashed, nil},
		{"never ready", 0, engine.StartFailure, "f was not ready within 300 ms: it did not listen on the port that " +
			"it was given", engine.NeverReady, nil},
		{"ready and then closes the port", -1, engine.Unreachable, "", engine.RunOver,
			func(f *plan.Function) { f.Fresh = true }},
		{"hangs", 0, engine.Timeout, "", engine.TimedOut, nil},
		{"answers after its timeout", 0, engine.Timeout, "", engine.TimedOut, nil},
		{"half an answer", 0, engine.Disconnected, "", engine.RunOver, nil},
		{"garbage instead of HTTP", 0, engine.Garbled, "", engine.RunOver, nil},
		{"an endless answer", 0, engine.TooLarge, "", engine.RunOver,
			func(f *plan.Function) { f.Timeout = time.Minute }},
		{"a gigabyte of headers", 0, engine.TooLarge, "", engine.RunOver,
			func(f *plan.Function) { f.Timeout = time.Minute }},
		{"a flood on standard error", 6, engine.OK, "", engine.RunOver, nil},
		{"ignores SIGTERM", 6, engine.OK, "", engine.RunOver, nil},
		{"forks children that outlive it", 6, engine.OK, "", engine.RunOver, nil},
		{"starts a child with an empty environment in a session of its own", 6, engine.OK, "", engine.RunOver, nil},
		{"fills its memory", 0, engine.Crash, "f ran out of memory: it was killed by the system, since it used more " +
			"than its memory of 64.0 MiB", engine.OutOfMemory,
			func(f *plan.Function) { f.Memory, f.Timeout = 64<<20, time.Minute }},
		{"uses all CPUs", 6, engine.OK, "", engine.RunOver, func(f *plan.Function) {
			f.CPU, f.Timeout = 0.3, time.Minute
		}},
		{"changes its own process group", 6, engine.OK, "", engine.RunOver, nil},
		{"opens ten thousand files", 6, engine.OK, "", engine.RunOver, nil},
		{"crashes on every second request", -1, engine.Crash, "f crashed: it exited with code 9", engine.Crashed, nil},
		{"refuses connections for a while", -1, engine.OK, "", engine.RunOver, nil},
	} {
		t.Run(c.kind, func(t *testing.T) {
			p, d := testProject("misbehaves: "+c.kind, false, "a")
			f := &p.Functions[0]
			f.Timeout, f.StartTimeout = time.Minute, time.Minute // a busy machine takes its time
			if c.result == engine.Timeout {
				f.Timeout = 500 * time.Millisecond
			}
			if c.kind == "never ready" {
				f.StartTimeout = 300 * time.Millisecond
			}
			if c.prepare != nil {
				c.prepare(f)
			}
			if bounds := (proc.Bounds{Memory: f.Memory, CPU: f.CPU}); strings.HasPrefix(proc.Bounded().Says(bounds),
				"not enforced") {
				t.Skipf("NOT TESTED, since nothing can be bounded here: %s", proc.Bounded().Says(bounds))
			}
			other, _ := testProject("plain", false, "a")
			p.Functions = append(p.Functions, other.Functions[0])
			p.Functions[1].Name, p.Functions[1].Timeout = "beside", time.Minute
			p.Sources = append(p.Sources, plan.Source{Name: "calm", Wires: []plan.Wire{{To: 1}}, Wait: time.Minute,
				DeadLetter: -1})
			p.Sources[0].Wait = 20 * time.Second
			every := arrival.Rate{Events: 10, Per: 3 * time.Second}
			phases := []arrival.Phase{{Pattern: arrival.Steady, Rate: every, For: 1800 * time.Millisecond}}
			d.Feeds = []plan.Feed{{Source: 0, Phases: phases}, {Source: 1, Phases: phases}}
			d.Limits, d.Settle = []plan.Limits{d.Limits[0], d.Limits[0]}, 50*time.Second // less than idle_after
			rec, s := run(t, p, d)
			if got := s.Sources["calm"]; got.Done != 6 {
				t.Errorf("the function beside it was disturbed: %+v", got)
			}
			if got := s.Sources["s"]; c.done >= 0 && got.Done != c.done || c.done < 0 && got.Done == 0 ||
				got.Arrived != 6 {
				t.Errorf("%d done of %d, want %d", got.Done, got.Arrived, c.done)
			}
			has := slices.ContainsFunc(rec.Attempts, func(a record.Attempt) bool {
				return a.Source == 0 &&
					a.Result == c.result
			})
			if !has {
				t.Errorf("no attempt is %v: %+v", c.result, rec.Attempts)
			}
			lived := func(in record.Instance) bool {
				return in.Function == 0 && (in.Reason == engine.Crashed || in.Ready > 0 &&
					in.Stopped.Sub(in.Ready) > 1100*time.Millisecond)
			}
			if c.kind == "exits with 0 after a second" && !slices.ContainsFunc(rec.Instances, lived) {
				t.Skip("NOT TESTED: the machine was so slow that the drill was over within a second of each start")
			}
			if c.why != "" && !slices.ContainsFunc(rec.Notes,
				func(n string) bool { return strings.Contains(n, c.why) }) {
				t.Errorf("notes %q, want %q", rec.Notes, c.why)
			}
			if !slices.ContainsFunc(rec.Instances, func(in record.Instance) bool {
				return in.Function == 0 &&
					in.Reason == c.reason
			}) {
				t.Errorf("no instance of %+v has stopped for %v", rec.Instances, c.reason)
			}
			if c.kind == "uses all CPUs" {
				for i := range rec.Instances {
					if in := &rec.Instances[i]; in.Function == 0 &&
						in.CPU.Seconds() > 0.3*in.Stopped.Sub(in.Spawned).Seconds()*1.5+0.1 {
						t.Errorf("it had %v of processor time within %v", in.CPU, in.Stopped.Sub(in.Spawned))
					}
				}
			}
			until(t, "nothing of it is left", func() bool { return len(started()) == 0 })
			until(t, "no descriptor and no goroutine is left", func() bool {
				now := leftovers()
				return now[0] <= baseline[0]+2 && now[1] <= baseline[1]+4 // the spawner, and what the runtime keeps
			})
		})
	}
}

// started returns the processes that this program started, and theirs, which run or
// which no one has waited for.
func started() (found []string) {
	all, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range all {
		env, _ := os.ReadFile(path)
		stat, _ := os.ReadFile(filepath.Dir(path) + "/stat")
		_, after, _ := strings.Cut(string(stat), ") ") // its state, then its parent: this program, for orphans
		fields, own := strings.Fields(after), fmt.Sprintf("NIGHTDRILL_INSTANCE=%d-", os.Getpid())
		if strings.Contains(string(env), own) || len(fields) > 1 && fields[1] == strconv.Itoa(os.Getpid()) {
			found = append(found, path)
		}
	}
	return found
}

// leftovers counts this program's file descriptors and goroutines.
func leftovers() [2]int {
	fds, _ := os.ReadDir("/proc/self/fd")
	return [2]int{len(fds), runtime.NumGoroutine()}
}
