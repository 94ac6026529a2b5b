package tui

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/measure"
)

var attack = flag.Duration("attack", 0, "how long TestAttack goes on; without, every attack is made once")

// wired are replies as they go over the wire. Few of them are good ones.
var wired = []string{
	"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\n\r\nuntil the end",
	"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\ntoo short",
	"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok and more",
	"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n",
	"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nok\r\n0\r\n\r\n",
	"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nok",
	"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nfffffffffffffffff\r\nok",
	"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n",
	"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Length: 3\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nContent-Length: -1\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nContent-Length: 9223372036854775807\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nContent-Length: 0x2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nno colon\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nName : x\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nX: a\x00b\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nX: a\r\n folded\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\nContent-Length: 2\n\nok",
	"HTTP/1.1 99 Low\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 1000 High\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 abc What\r\n\r\n",
	"HTTP/1.1 200\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/9.9 200 OK\r\nContent-Length: 2\r\n\r\nok",
	"only a body",
	"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
	strings.Repeat("HTTP/1.1 103 Early Hints\r\nLink: <x>\r\n\r\n", 50) + "HTTP/1.1 200 OK\r\nContent-Length: " +
		"2\r\n\r\nok",
	"HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\n\r\n\x00\x01",
	"HTTP/1.1 204 No Content\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 304 Not Modified\r\nContent-Length: 20\r\n\r\n",
	"",
	"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 4\r\n\r\nnope",
	"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\n\r\n" + zeros(),
	strings.Repeat("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", 2),
	"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("x", 2<<20) + "\r\n\r\n",
	"HTTP/1.1 200 OK\r\n" + strings.Repeat("X: y\r\n", 100_000) + "\r\n",
	"HTTP/1.1 200 \x1b[2J\x1b]0;title\x07\r\nX: \x1b[31m\r\nContent-Length: 9\r\n\r\n\x1b[?1049h\x9bK",
	"HTTP/1.1 503 Later\r\nRetry-After: -5\r\nContent-Length: 0\r\n\r\n",
	"HTTP/1.1 429 Later\r\nRetry-After: 99999999999999999999\r\nContent-Length: 0\r\n\r\n",
	"HTTP/1.1 200 OK\r\nServer-Timing: " + strings.Repeat("a;dur=1e308,", 5000) + "\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nContent-Type: ;;;/\"\r\nContent-Length: 2\r\n\r\nok",
	"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: X\r\n\r\n2\r\nok\r\n0\r\nX: 1\r\n\r\n",
	"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03",
	"hang",
}

// zeros is a little that becomes much.
func zeros() string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(make([]byte, 100<<20))
	_ = w.Close()
	return b.String()
}

// wire is the life of a function that answers as its request says: /N is the Nth of those
// replies.
func wire() {
	l, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		panic(err)
	}
	number := regexp.MustCompile(`^\S+ /(\d+)`)
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			for r := bufio.NewReader(c); ; {
				line, err := r.ReadString('\n')
				if err != nil {
					return
				}
				length := 0
				for {
					h, err := r.ReadString('\n')
					if err != nil {
						return
					}
					if n, ok := strings.CutPrefix(strings.ToLower(strings.TrimSpace(h)), "content-length: "); ok {
						length, _ = strconv.Atoi(n)
					}
					if h == "\r\n" {
						break
					}
				}
				_, _ = io.CopyN(io.Discard, r, int64(length))
				n := 0
				if m := number.FindStringSubmatch(line); m != nil {
					n, _ = strconv.Atoi(m[1])
				}
				reply := wired[n%len(wired)]
				if reply == "hang" {
					select {}
				}
				_, _ = io.WriteString(c, reply)
				if n%len(wired) != 0 { // only the good one keeps its connection
					return
				}
			}
		}()
	}
}

// attacked is a project that is attacked.
type attacked struct {
	*testing.T
	dir   string
	short bool
	r     *rand.Rand
}

// begin lays a project; its functions have its folder in their environment, by which they
// are found.
func begin(t *testing.T, r *rand.Rand) *attacked {
	a := &attacked{T: t, dir: t.TempDir(), short: *attack == 0, r: r}
	self, _ := os.Executable()
	var har strings.Builder
	for n := range wired {
		fmt.Fprintf(&har, `%s{"request":{"method":"GET","url":"http://quay.example/%d"}}`,
			strings.Repeat(",", min(n, 1)), n)
	}
	a.write("asks.har", `{"log":{"entries":[`+har.String()+`]}}`)
	a.write("nightdrill.yaml", fmt.Sprintf(`nightdrill: 1
functions:
  wire: {start: [%q], env: {WIRE: %q}, timeout: 700ms, start_timeout: 60s, concurrency: {max: 4}, idle_after: 2s}
sources:
  asks: {kind: http, wires: [{to: wire}]}
  box: {kind: storage, folder: box, attempts: 1, wires: [{to: wire}]}
  jobs: {kind: queue, attempts: 2, backoff: 10ms, wires: [{to: wire}]}
payloads: {all: {recording: asks.har}, made: {schema: made.json, count: 40}}
drills:
  all: {settle: 10s, feeds: [{source: asks, payloads: all, arrive: [{steady: 30/s, for: 3s}]}]}
  long: {settle: 10s, feeds: [{source: asks, payloads: all, arrive: [{steady: 50/s, for: 1h}]}, {source: jobs,
    payloads: made, arrive: [{steady: 20/s, for: 1h}]}]}
`, self, a.dir))
	a.write("made.json", `{"type":"object","properties":{"pass":{"type":"string"}}}`)
	return a
}

func (a *attacked) write(name, text string) {
	a.Helper()
	if err := os.WriteFile(filepath.Join(a.dir, name), []byte(text), 0o644); err != nil {
		a.Fatal(err)
	}
}

// times returns a number for one round: small where every attack is made once.
func (a *attacked) times(few, many int) int {
	if a.short {
		return few
	}
	return few + a.r.IntN(many-few+1)
}

// command returns a command of the program on the project, in a state of its own.
func (a *attacked) command(args ...string) (*exec.Cmd, *bytes.Buffer) {
	c := exec.Command(program, append(args, "--project", a.dir)...)
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	errs := &bytes.Buffer{}
	c.Stderr = errs
	return c, errs
}

// ends waits for the end of a command, and fails when that does not come.
func (a *attacked) ends(c *exec.Cmd, errs *bytes.Buffer, within time.Duration) {
	a.Helper()
	over := make(chan struct{})
	go func() {
		defer close(over)
		_ = c.Wait() // the code tells
	}()
	select {
	case <-over:
	case <-time.After(within):
		_ = c.Process.Signal(syscall.SIGQUIT) // which says where it is
		<-over
		a.Fatalf("%v did not end within %v\n%.5000s", c.Args, within, errs)
	}
	a.sound(errs.String())
}

// sound fails when the program broke.
func (a *attacked) sound(text string) {
	a.Helper()
	for _, bad := range []string{"panic: ", "fatal error: ", "goroutine 1 [", "nightdrill.yaml:"} {
		if strings.Contains(text, bad) {
			a.Errorf("it broke: %.5000s", text)
		}
	}
}

// clean fails when anything is left: processes, or files of the program's that go with it.
func (a *attacked) clean() {
	a.Helper()
	if !soon(10*time.Second, func() bool { return len(a.processes()) == 0 }) { // the warden takes a moment
		a.Errorf("processes are left: %v", a.processes())
	}
	if c, errs := a.command("runs", "list"); c.Run() != nil && !strings.Contains(errs.String(), "no runs yet") {
		a.Errorf("the runs cannot be read: %s", errs)
	}
	if left, _ := filepath.Glob(filepath.Join(a.dir, ".nightdrill", "aside", "*")); len(left) > 0 {
		if c, _ := a.command("fire", "box", "none"); c.Run() == nil { // the next program sweeps what a killed one left
			a.Error("nothing was fired")
		}
		if left, _ = filepath.Glob(filepath.Join(a.dir, ".nightdrill", "aside", "*")); len(left) > 0 {
			a.Errorf("left are %v", left)
		}
	}
}

// soon reports whether something comes to be within some time.
func soon(within time.Duration, is func() bool) bool {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(within); !is(); <-tick.C {
		if time.Now().After(end) {
			return false
		}
	}
	return true
}

// pause is a moment of the attack's own, up to as long as is said: what comes next is to come
// at any time.
func (a *attacked) pause(most time.Duration) { <-time.After(time.Duration(a.r.Int64N(int64(most)))) }

// processes returns those that belong to the project, by their environment or command line.
func (a *attacked) processes() (out []string) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil || e.Name() == strconv.Itoa(os.Getpid()) {
			continue
		}
		env, _ := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		args, _ := os.ReadFile(filepath.Join("/proc", e.Name(), "cmdline"))
		shell := bytes.HasPrefix(args, []byte("tmux")) || bytes.HasPrefix(args, []byte("sh\x00"))
		if bytes.Contains(env, []byte("WIRE="+a.dir)) || bytes.Contains(args, []byte(a.dir)) && !shell {
			out = append(out, e.Name()+" "+strings.ReplaceAll(string(args), "\x00", " "))
		}
	}
	return out
}

// attacks are what is done to the program.
var attacks = map[string]func(*attacked){
	"replies on the wire": func(a *attacked) {
		c, errs := a.command("run", "all", "--json", filepath.Join(a.dir, "out.json"))
		if err := c.Start(); err != nil {
			a.Fatal(err)
		}
		a.ends(c, errs, time.Minute)
		text, err := os.ReadFile(filepath.Join(a.dir, "out.json"))
		var s measure.Summary
		if err != nil || json.Unmarshal(text, &s) != nil {
			a.Fatalf("%v, %s", err, errs)
		}
		if e := s.Events; e.Deliveries != 90 || e.Done == 0 || e.Done > e.Deliveries-e.Failed-e.Rejected {
			a.Errorf("%+v", e)
		}
	},
	"signals": func(a *attacked) {
		for range a.times(2, 6) {
			c, errs := a.command("run", "long")
			if err := c.Start(); err != nil {
				a.Fatal(err)
			}
			soon(20*time.Second, func() bool { return len(a.processes()) >= 3 }) // the functions have begun
			a.pause(800 * time.Millisecond)
			s := []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGKILL}[a.r.IntN(4)]
			if a.r.IntN(3) == 0 {
				_ = c.Process.Signal(syscall.SIGSTOP)
				a.pause(time.Second)
				_ = c.Process.Signal(syscall.SIGCONT)
			}
			_ = c.Process.Signal(s)
			if a.r.IntN(2) == 0 {
				_ = c.Process.Signal(s) // impatient
			}
			a.ends(c, errs, 20*time.Second)
			a.clean()
		}
	},
	"low limits": func(a *attacked) {
		for range a.times(1, 5) {
			limit := []string{fmt.Sprintf("ulimit -n %d", 16+a.r.IntN(80)), fmt.Sprintf("ulimit -f %d", a.r.IntN(500)),
				"ulimit -c 0; ulimit -t 2"}[a.r.IntN(3)]
			c := exec.Command("sh", "-c", limit+` && exec "$0" "$@"`, program, "run", "all", "--project", a.dir)
			errs := &bytes.Buffer{}
			c.Stderr, c.Env = errs, append(os.Environ(), "XDG_STATE_HOME="+state)
			if err := c.Start(); err != nil {
				a.Fatal(err)
			}
			over := make(chan struct{})
			go func() { defer close(over); _ = c.Wait() }()
			select {
			case <-over:
			case <-time.After(time.Minute):
				_ = c.Process.Kill()
				<-over
				a.Errorf("with %s it did not end\n%.2000s", limit, errs)
			}
			if text := errs.String(); strings.Contains(text, "panic: ") || strings.Contains(text, "goroutine 1 [") {
				a.Errorf("with %s it broke: %.3000s", limit, text)
			}
			a.clean()
		}
	},
	"a full disk": func(a *attacked) {
		disk := filepath.Join(a.TempDir(), "disk")
		if os.Mkdir(disk, 0o755) != nil || exec.Command("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs",
			disk).Run() != nil {
			a.Log("left out: no small file system can be mounted here")
			return
		}
		defer exec.Command("umount", "-l", disk).Run() //nolint:errcheck // it is a test's
		b := *a
		b.dir = filepath.Join(disk, "project")
		if out, err := exec.Command("cp", "-r", a.dir, b.dir).CombinedOutput(); err != nil {
			a.Fatalf("%v %s", err, out)
		}
		c, errs := b.command("run", "all")
		if err := c.Start(); err != nil {
			a.Fatal(err)
		}
		a.pause(2500 * time.Millisecond)
		fill, err := os.Create(filepath.Join(disk, "fill"))
		if err != nil {
			a.Fatal(err)
		}
		_, full := io.Copy(fill, io.LimitReader(zeroes{}, 4<<20))
		if fill.Close(); !errors.Is(full, syscall.ENOSPC) {
			a.Fatalf("the disk is not full: %v", full)
		}
		b.ends(c, errs, time.Minute)
		if text := errs.String(); strings.Contains(text, "is damaged") {
			a.Errorf("a full disk is called damage: %s", text)
		}
		if err := os.Remove(fill.Name()); err != nil {
			a.Fatal(err)
		}
		b.clean()
	},
	"floods of files": func(a *attacked) {
		x := a.screen()
		var all sync.WaitGroup
		each := a.times(100, 1000)
		for n := range 4 {
			all.Go(func() {
				for i := range each {
					a.write(fmt.Sprintf("box/%d-%d.csv", n, i), "BF-1\n")
				}
			})
		}
		all.Wait()
		a.pause(3 * time.Second)
		a.leave(x)
	},
	"floods of requests": func(a *attacked) {
		x := a.screen()
		address := regexp.MustCompile(`front http://(127\.0\.0\.1:\d+)`).FindStringSubmatch(x.pane())[1]
		lines := []string{
			"GET /0 HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n",
			"GET /9 HTTP/1.1\r\nHost: evil.example\r\n\r\n",
			"POST /0 HTTP/1.1\r\nHost: localhost\r\nContent-Length: 5\r\n\r\nab",
			"POST /0 HTTP/1.1\r\nHost: localhost\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n" +
				"0\r\n\r\nGET /hidden HTTP/1.1\r\n\r\n",
			"\x00\x01\x02",
			"GET / HTTP/1.1\r\n" + strings.Repeat("X: y\r\n", 10_000),
			"GET /\x1b[2J HTTP/1.1\r\nHost: localhost\r\n\r\n",
		}
		var all sync.WaitGroup
		each := a.times(10, 60)
		for n := range 20 {
			r := rand.New(rand.NewPCG(uint64(n), a.r.Uint64()))
			all.Go(func() {
				for range each {
					c, err := net.DialTimeout("tcp", address, 5*time.Second)
					if err != nil {
						continue // it is busy
					}
					_ = c.SetDeadline(time.Now().Add(2 * time.Second))
					_, _ = io.WriteString(c, lines[r.IntN(len(lines))])
					if r.IntN(2) == 0 {
						_, _ = io.Copy(io.Discard, c)
					}
					_ = c.Close()
				}
			})
		}
		all.Wait()
		a.leave(x)
	},
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// screen opens the project on the screen.
func (a *attacked) screen() *terminal {
	a.Helper()
	if err := os.MkdirAll(filepath.Join(a.dir, "box"), 0o755); err != nil {
		a.Fatal(err)
	}
	x := open(a.T, 120, 35)
	a.Cleanup(func() {
		if text, _ := os.ReadFile(filepath.Join(a.dir, "errors")); len(text) > 0 {
			a.Logf("it said %.2000s", text)
		}
	})
	x.shell(program + " --project " + a.dir + " --listen 127.0.0.1:0 2> " + a.dir + "/errors; echo ended")
	x.wait("▸ Payloads")
	return x
}

// leave leaves the screen, however busy it is.
func (a *attacked) leave(x *terminal) {
	a.Helper()
	x.keys("q")
	x.wait("ended")
	text, _ := os.ReadFile(filepath.Join(a.dir, "errors"))
	a.sound(string(text))
}

// Whatever is done to the program, it ends, does not break, and leaves nothing behind.
// scripts/attack goes on for ten minutes.
func TestAttack(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("what is left is found in /proc")
	}
	began, seed := time.Now(), uint64(1)
	if *attack > 0 {
		seed = uint64(began.UnixNano())
	}
	t.Logf("seed %d", seed)
	for round := uint64(0); round == 0 || time.Since(began) < *attack; round++ {
		for name, do := range attacks {
			t.Run(name, func(t *testing.T) {
				a := begin(t, rand.New(rand.NewPCG(seed, round)))
				do(a)
				a.clean()
			})
			if t.Failed() || *attack > 0 && time.Since(began) > *attack {
				return
			}
		}
	}
}
