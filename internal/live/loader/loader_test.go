package loader

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/transport"
)

var handlers = map[plan.Language]struct{ interpreter, file, text, echo string }{
	plan.Python: {"python3", "f.py", "def f(event):\n    return None\n", `
import socket, struct, sys
s = socket.socket(socket.AF_UNIX); s.connect(sys.argv[1]); r = s.makefile("rb")
H = struct.Struct(">III"); N = b'{"kind":"nothing","user_ns":1}'
s.sendall(H.pack(0, 2, 0) + b"{}")
while True:
    h = r.read(12)
    if len(h) < 12: break
    n, a, b = H.unpack(h); r.read(a); r.read(b)
    s.sendall(H.pack(n, len(N), 0) + N)
`},
	plan.Node: {"node", "f.mjs", "export const f = () => null;\n", `
const net = require('node:net'); const s = net.connect(process.argv[2]);
const N = Buffer.from('{"kind":"nothing","user_ns":1}');
const frame = (n, t) => {
  const h = Buffer.alloc(12); h.writeUInt32BE(n, 0); h.writeUInt32BE(t.length, 4); return Buffer.concat([h, t]);
};
s.write(frame(0, Buffer.from('{}')));
let rest = Buffer.alloc(0);
s.on('data', (c) => { rest = rest.length ? Buffer.concat([rest, c]) : c;
  while (rest.length >= 12) { const z = 12 + rest.readUInt32BE(4) + rest.readUInt32BE(8); if (rest.length < z) return;
    s.write(frame(rest.readUInt32BE(0), N)); rest = rest.subarray(z); } });
s.on('close', () => process.exit(0));
`}, plan.Go: {"go", "f.go", "package f\n\nfunc F(event map[string]any) error { return nil }\n", `package main

import ("bufio"; "encoding/binary"; "io"; "net"; "os")

func main() {
	s, _ := net.Dial("unix", os.Args[1])
	in, n := bufio.NewReader(s), []byte("{\"kind\":\"nothing\",\"user_ns\":1}")
	send := func(number []byte, head []byte) {
		s.Write(append(append(append([]byte{}, number...), 0, 0, 0, byte(len(head)), 0, 0, 0, 0), head...))
	}
	send([]byte{0, 0, 0, 0}, []byte("{}"))
	for h := make([]byte, 12); ; {
		if _, err := io.ReadFull(in, h); err != nil {
			return
		}
		in.Discard(int(binary.BigEndian.Uint32(h[4:]) + binary.BigEndian.Uint32(h[8:])))
		send(h[:4], n)
	}
}
`}, plan.Java: {"java", "f.java", "class F { public static Object f(Object event) { return null; } }", `
import java.io.*;

class Echo {
  static void send(OutputStream out, byte[] number, byte[] head) throws IOException {
    ByteArrayOutputStream all = new ByteArrayOutputStream();
    all.write(number, 0, 4);
    all.write(new byte[] {0, 0, 0, (byte) head.length, 0, 0, 0, 0});
    all.write(head);
    out.write(all.toByteArray());
  }
  public static void main(String[] args) throws Exception {
    DataInputStream in = new DataInputStream(new BufferedInputStream(new FileInputStream("/dev/fd/3")));
    OutputStream out = new FileOutputStream("/dev/fd/4");
    byte[] n = "{\"kind\":\"nothing\",\"user_ns\":1}".getBytes("UTF-8");
    send(out, new byte[4], "{}".getBytes("UTF-8"));
    byte[] h = new byte[4];
    while (in.readNBytes(h, 0, 4) == 4) {
      in.skipNBytes(in.readInt() + in.readInt());
      send(out, h, n);
    }
  }
}
`}}

// running is a process that has connected, and how long it took until it said hello.
type running struct {
	*transport.Frames
	took  time.Duration
	hello transport.Hello
	end   func()
}

func start(t testing.TB, f *plan.Function, args func(socket string) []string) running {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "s")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	conn, theirs, err := transport.NewPipes()
	if err != nil {
		t.Fatal(err)
	}
	all := args(socket)
	cmd := exec.Command(all[0], all[1:]...)
	cmd.Dir, cmd.Stderr = f.Dir, os.Stderr
	if f.Handler.Language == plan.Java {
		cmd.ExtraFiles = theirs
	}
	began := time.Now()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for _, file := range theirs {
		_ = file.Close()
	}
	if f.Handler.Language != plan.Java {
		_ = conn.Close()
		if conn, err = listener.Accept(); err != nil {
			t.Fatal(err)
		}
	}
	in := bufio.NewReader(conn)
	hello, err := transport.ReadHello(in)
	r := running{transport.NewFrames(conn, in, f, "f-1"), time.Since(began), hello, sync.OnceFunc(func() {
		_ = conn.Close()
		_ = listener.Close()
		_ = cmd.Wait()
	})}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.end)
	return r
}

// function lays a handler out, and returns how its loader and the bare echo of its frames are started.
func function(t testing.TB, of plan.Language) (f *plan.Function, loaded, echo func(socket string) []string) {
	t.Helper()
	h := handlers[of]
	if _, err := exec.LookPath(h.interpreter); err != nil {
		t.Skipf("THE LOADER FOR %s IS NOT TRIED: %s is not on this machine", strings.ToUpper(of.String()),
			h.interpreter)
	}
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	f = &plan.Function{Dir: t.TempDir(), Timeout: time.Minute, Transport: plan.Loaded,
		Handler: &plan.Handler{File: h.file, Name: "f", Language: of}}
	bare := filepath.Join(f.Dir, "echo"+filepath.Ext(h.file))
	switch of {
	case plan.Node:
		bare = filepath.Join(f.Dir, "echo.cjs")
	case plan.Go:
		bare = filepath.Join(t.TempDir(), "echo.go")
	}
	for name, text := range map[string]string{filepath.Join(f.Dir, h.file): h.text, bare: h.echo} {
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	switch of {
	case plan.Go:
		return f, builtHandler(t, f), builtEcho(t, f, bare)
	case plan.Java:
		return f, javaHandler(t, f), func(string) []string { return []string{"java", "-cp", "echo.jar", "Echo"} }
	}
	program, err := Path(of)
	if err != nil {
		t.Fatal(err)
	}
	return f, func(socket string) []string {
			return []string{h.interpreter, program, h.file, "f", socket, "1", "event"}
		}, func(socket string) []string {
			return []string{h.interpreter, bare, socket}
		}
}

func builtHandler(t testing.TB, f *plan.Function) func(socket string) []string {
	t.Helper()
	if err := os.WriteFile(filepath.Join(f.Dir, "go.mod"), []byte("module f\n\ngo 1.21\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	out := filepath.Join(t.TempDir(), "handler")
	if err := BuildGo(t.Context(), filepath.Join(f.Dir, "f.go"), "F", "event", out, os.Stderr); err != nil {
		t.Fatal(err)
	}
	return func(socket string) []string { return []string{out, "f.go", "F", socket, "1", "event"} }
}

// javaHandler compiles a handler, and the echo beside it, to jars.
func javaHandler(t testing.TB, f *plan.Function) func(string) []string {
	t.Helper()
	for _, c := range [][]string{{"javac", "-d", "f", "f.java"}, {"jar", "-cf0", "f.jar", "-C", "f", "."},
		{"javac", "-d", "e", "echo.java"}, {"jar", "-cf0", "echo.jar", "-C", "e", "."}} {
		build := exec.Command(c[0], c[1:]...)
		build.Dir = f.Dir
		if said, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, said)
		}
	}
	program, err := Path(plan.Java)
	if err != nil {
		t.Fatal(err)
	}
	return func(string) []string {
		return append(OnClassPath([]string{"java"}, program, "f.jar"), "f.jar", "F.f", "-", "1", "event")
	}
}

func builtEcho(t testing.TB, f *plan.Function, bare string) func(socket string) []string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "echo")
	build := exec.Command("go", "build", "-o", out, bare)
	build.Dir = f.Dir
	if said, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, said)
	}
	return func(socket string) []string { return []string{out, socket} }
}

// invoke invokes a handler so many times, one after the other, and returns how long each took.
func invoke(t testing.TB, r running, f *plan.Function, n int) (took []time.Duration) {
	t.Helper()
	e := &event.Event{ID: "1", Source: "/s", Type: "t", Data: []byte(`{"pass":"BF-1"}`)}
	m := transport.Build(context.Background(), f, nil, []*event.Event{e}, false)
	for range n {
		began := time.Now()
		if reply := r.Do(context.Background(), &m, ""); reply.Status != 204 {
			t.Fatalf("%+v", reply)
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took
}

// A loader is written once, to a folder that its content names; another program's half is not taken for it.
func TestTheLoadersFile(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			path, err := Path(plan.Python)
			if text, read := os.ReadFile(path); err != nil || read != nil || string(text) != string(python) {
				t.Errorf("%v, %v: %d bytes", err, read, len(text))
			}
		})
	}
	wg.Wait()
	path, _ := Path(plan.Node)
	if err := os.WriteFile(path, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if again, err := Path(plan.Node); err != nil || again != path {
		t.Fatalf("%s, %v", again, err)
	}
	if text, _ := os.ReadFile(path); string(text) != string(node) {
		t.Error("what was spoilt is not written anew")
	}
	if _, err := Path(plan.NoLanguage); err == nil {
		t.Error("there is a loader for no language")
	}
}

// BenchmarkInvocation compares an invocation through a loader with the same frames, echoed by a bare program of
// the same language: what the loader costs is the difference.
func BenchmarkInvocation(b *testing.B) {
	for _, of := range []plan.Language{plan.Python, plan.Node, plan.Go, plan.Java} {
		b.Run(of.String(), func(b *testing.B) {
			f, loaded, echo := function(b, of)
			with, without := start(b, f, loaded), start(b, f, echo)
			var a, c []time.Duration
			for b.Loop() {
				const each = 300 // in turns, so that other load affects both
				a, c = append(a, invoke(b, with, f, each)...), append(c, invoke(b, without, f, each)...)
			}
			slices.Sort(a)
			slices.Sort(c)
			p50 := func(all []time.Duration) float64 { return float64(all[len(all)/2]) / 1e3 }
			b.ReportMetric(p50(a), "µs/invocation")
			b.ReportMetric(p50(a)-p50(c), "µs-of-the-loader")
		})
	}
}

// BenchmarkStart compares a start until the loader's hello with that of the bare program.
func BenchmarkStart(b *testing.B) {
	for _, of := range []plan.Language{plan.Python, plan.Node, plan.Go, plan.Java} {
		b.Run(of.String(), func(b *testing.B) {
			f, loaded, echo := function(b, of)
			var a, c []time.Duration
			for b.Loop() {
				x, y := start(b, f, loaded), start(b, f, echo)
				x.end()
				y.end()
				a, c = append(a, x.took), append(c, y.took)
			}
			slices.Sort(a)
			slices.Sort(c)
			b.ReportMetric(float64(a[len(a)/2])/1e6, "ms/start")
			b.ReportMetric(float64(a[len(a)/2]-c[len(c)/2])/1e6, "ms-of-the-loader")
		})
	}
}

// BenchmarkFour counts invocations of four instances at a time, together.
func BenchmarkFour(b *testing.B) {
	for _, of := range []plan.Language{plan.Python, plan.Node, plan.Go, plan.Java} {
		b.Run(of.String(), func(b *testing.B) {
			f, loaded, echo := function(b, of)
			rate := func(args func(string) []string) float64 {
				var all [4]running
				for i := range all {
					all[i] = start(b, f, args)
				}
				const each = 500
				began := time.Now()
				var wg sync.WaitGroup
				for _, r := range all {
					wg.Go(func() { invoke(b, r, f, each) })
				}
				wg.Wait()
				took := time.Since(began)
				for _, r := range all {
					r.end()
				}
				return 4 * each / took.Seconds()
			}
			var with, without float64
			n := 0
			for b.Loop() {
				n++
				with, without = with+rate(loaded), without+rate(echo)
			}
			b.ReportMetric(with/float64(n), "invocations/s")
			b.ReportMetric(with/without, "of-echoed")
		})
	}
}

// The loader for Java, which is kept compiled, is of the sources that are beside it.
func TestTheLoaderForJavaIsCurrent(t *testing.T) {
	files, err := filepath.Glob("java/nightdrill/*.java") // in the order of their names
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	sum := sha256.New()
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		sum.Write(text)
	}
	jar, err := zip.NewReader(bytes.NewReader(java), int64(len(java)))
	if err != nil {
		t.Fatal(err)
	}
	manifest, err := fs.ReadFile(jar, "META-INF/MANIFEST.MF")
	if want := fmt.Sprintf("Sources: %x\r\n", sum.Sum(nil)[:16]); err != nil ||
		!strings.Contains(string(manifest), want) {
		t.Errorf("%v: %s\nwants %q; scripts/java-loader compiles it again", err, manifest, want)
	}
}

func TestTheClassPath(t *testing.T) {
	got := OnClassPath([]string{"java", "-cp", "lib/*", "-Xmx64m", "--class-path=more.jar"}, "l.jar", "f.jar")
	want := []string{"java", "-Xmx64m", "-cp", "l.jar:f.jar:lib/*:more.jar", "nightdrill.Loader"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}
