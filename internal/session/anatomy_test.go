package session

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	live "nightdrill.dev/internal/live/anatomy"
	"nightdrill.dev/internal/live/runner"
)

// planted are functions that do something at their start, in each language.
var planted = map[string]struct {
	needs, file, text string
	start             []string
}{
	"Python": {"python3", "f.py", `import os, http.server, json, decimal, asyncio
n = sum(i * i for i in range(300_000))
class H(http.server.BaseHTTPRequestHandler):
    pass
http.server.HTTPServer(("127.0.0.1", int(os.environ["PORT"])), H).serve_forever()
`, []string{"python3", "f.py"}},
	"Node": {"node", "f.mjs", `import http from 'node:http';
import fs from 'node:fs';
let n = 0; for (let i = 0; i < 3e7; i++) n += i; if (n < 0) fs.statSync('/');
http.createServer((q, r) => r.end()).listen(process.env.PORT, '127.0.0.1');
`, []string{"node", "f.mjs"}},
	"Java": {"java", "F.java", `import com.sun.net.httpserver.HttpServer;
import java.net.InetSocketAddress;
public class F {
  public static void main(String[] a) throws Exception {
    HttpServer.create(new InetSocketAddress("127.0.0.1", Integer.parseInt(System.getenv("PORT"))), 0).start();
  }
}
`, []string{"java", "-cp", ".", "F"}},
}

// BenchmarkLooking compares starts that are looked at with plain ones, in turns: how much longer they take.
func BenchmarkLooking(b *testing.B) {
	for name, p := range planted {
		b.Run(name, func(b *testing.B) {
			if _, err := exec.LookPath(p.needs); err != nil {
				b.Skip(p.needs + " is not on this machine")
			}
			dir := b.TempDir()
			if err := os.WriteFile(filepath.Join(dir, p.file), []byte(p.text), 0o644); err != nil {
				b.Fatal(err)
			}
			if name == "Java" {
				c := exec.Command("javac", p.file)
				if c.Dir = dir; c.Run() != nil {
					b.Skip("javac is not on this machine")
				}
			}
			f := &plan.Function{Name: "f", Dir: dir, Start: p.start, StartTimeout: time.Minute,
				Limits: plan.Limits{Max: 1, PerInstance: 1}}
			took := map[string][]time.Duration{}
			start := func(way string, f *plan.Function, env []string, running func(*runner.Once)) {
				o := runner.StartOnce(b.Context(), f, env, nil, nil, running)
				o.End()
				if o.Why != "" {
					b.Fatal(way, o.Why)
				}
				took[way] = append(took[way], o.Ready.Sub(o.Exec))
			}
			for b.Loop() {
				start("plain", f, nil, nil)
				start("clock", f, nil, func(o *runner.Once) {
					s := live.Sample(o.PID, o.Exec)
					o.AtReady = func() { s.End() }
				})
				tree, err := live.NewTree(f)
				if err != nil {
					b.Fatal(err)
				}
				start("tree", f, tree.Env, nil)
				tree.Close()
			}
			for _, all := range took {
				slices.Sort(all)
			}
			median := func(way string) float64 { return float64(took[way][len(took[way])/2]) }
			b.ReportMetric(median("clock")/median("plain"), "clock-of-plain")
			b.ReportMetric(median("tree")/median("plain"), "tree-of-plain")
			b.ReportMetric(median("plain")/1e6, "ms-plain")
		})
	}
}
