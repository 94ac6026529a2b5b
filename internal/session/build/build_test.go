package build

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/project"
)

// workshop makes the works of one function in a folder of files.
func workshop(t *testing.T, f plan.Function, files ...string) (*Builder, *Code) {
	t.Helper()
	dir := t.TempDir()
	for _, name := range append(files, project.StateDir+"/x") {
		write(t, dir, name, name)
	}
	f.Name, f.Dir = "f", dir
	w := New(plan.Expand(&plan.Project{Dir: dir, Functions: []plan.Function{f}}), logs.New(""))
	return w, w.Codes[0]
}

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func sh(script string) []string { return []string{"sh", "-c", script} }

// Patterns find files, and pass over what no code is, unless they name it.
func TestWatchedFiles(t *testing.T) {
	w, _ := workshop(t, plan.Function{}, "a.py", "lib/b.py", "lib/deep/c.py", "lib/d.txt", "node_modules/m.py",
		"lib/node_modules/n.py", ".git/g.py", "lib/__pycache__/p.py", "b[1].py")
	for pattern, want := range map[string]string{
		"*.py": "a.py b[1].py", "**/*.py": "a.py b[1].py lib/b.py lib/deep/c.py", "lib/*": "lib/b.py lib/d.txt",
		"lib/**":            "lib/b.py lib/d.txt lib/deep/c.py",
		"node_modules/*.py": "node_modules/m.py", "lib/{b,d}.*": "lib/b.py lib/d.txt", `b\[1].py`: "b[1].py",
		"none/*": "", "a.py": "a.py",
	} {
		files, err := Watched(w.dir, []string{pattern, pattern})
		if got := strings.Join(files, " "); err != nil || got != want {
			t.Errorf("%s: %s, %v; want %s", pattern, got, err, want)
		}
	}
}

// A version is made once for the same files; other files make another; the
// files' earlier state is a version again.
func TestVersions(t *testing.T) {
	w, c := workshop(t, plan.Function{Watch: []string{"*.py"}}, "a.py")
	bring := func() (string, bool) {
		changed, failure := c.Update(context.Background())
		if failure != nil {
			t.Fatal(failure)
		}
		return c.Label(), changed
	}
	if c.Label() != "" {
		t.Errorf("before the first there is %s", c.Label())
	}
	first, changed := bring()
	if !strings.HasPrefix(first, "v1 ") || changed {
		t.Errorf("the first is %s, changed %v", first, changed)
	}
	if again, changed := bring(); again != first || changed {
		t.Errorf("the same files are %s, changed %v", again, changed)
	}
	write(t, w.dir, "a.py", "other")
	second, changed := bring()
	if !strings.HasPrefix(second, "v2 ") || !changed || second[3:] == first[3:] {
		t.Errorf("other files are %s, changed %v", second, changed)
	}
	write(t, w.dir, "a.py", "a.py")
	if third, changed := bring(); third != "v3 "+first[3:] || !changed {
		t.Errorf("back to the first they are %s", third)
	}
	write(t, w.dir, "b.txt", "not watched")
	if _, changed := bring(); changed {
		t.Error("a file that is not watched made a version")
	}
	if _, c := workshop(t, plan.Function{}); true {
		if changed, failure := c.Update(context.Background()); changed || failure != nil || c.Label() != "v1" {
			t.Errorf("without files it is %s, %v", c.Label(), failure)
		}
	}
	if _, c := workshop(t, plan.Function{Transport: plan.Attach}); c.Label() != "attached" {
		t.Errorf("attached it is %s", c.Label())
	}
}

// How long a preparation took is known, also after the program was started again.
func TestPreparationTime(t *testing.T) {
	f := plan.Function{Watch: []string{"*.py"}, Prepare: sh("echo made > made")}
	w, c := workshop(t, f, "a.py")
	if took := c.Prepared(); took != 0 {
		t.Errorf("before the first %v", took)
	}
	if _, failure := c.Update(context.Background()); failure != nil || c.Prepared() <= 0 {
		t.Errorf("%v, took %v", failure, c.Prepared())
	}
	again := New(plan.Expand(&plan.Project{Dir: w.dir, Functions: []plan.Function{c.f}}), w.log)
	if took := again.Codes[0].Prepared(); took != c.Prepared() {
		t.Errorf("afterwards %v", took)
	}
}

// What is built is what the files hold when it is used: files that change while
// they are built are built again, and a build that writes watched files rests
// after the second time.
func TestNothingStaleIsUsed(t *testing.T) {
	steps := func(w *Builder) string {
		text, _ := os.ReadFile(filepath.Join(w.dir, "steps"))
		return string(text)
	}
	w, c := workshop(t, plan.Function{Watch: []string{"*.py"},
		Build: sh(`echo built >> steps; test -f late.py || echo x > late.py`)}, "a.py")
	if changed, failure := c.Update(context.Background()); failure != nil || changed || steps(w) != "built\nbuilt\n" {
		t.Errorf("%v, changed %v, %q", failure, changed, steps(w))
	}
	if c.Label()[:2] != "v1" {
		t.Errorf("it is %s", c.Label())
	}
	// a build that always writes something else comes to an end too
	w, c = workshop(t, plan.Function{Watch: []string{"*.py"}, Build: sh(`echo built >> steps; cp steps stamp.py`)},
		"a.py")
	if _, failure := c.Update(context.Background()); failure != nil || strings.Count(steps(w), "built") > 4 ||
		c.Label()[:2] != "v1" {
		t.Errorf("%v, %q, %s", failure, steps(w), c.Label())
	}
	// without files that are watched it is built each time the program starts
	w, c = workshop(t, plan.Function{Build: sh("echo built >> steps")})
	for range 2 {
		if _, failure := c.Update(context.Background()); failure != nil {
			t.Fatal(failure)
		}
	}
	again := New(plan.Expand(&plan.Project{Dir: w.dir, Functions: []plan.Function{c.f}}), w.log)
	if _, failure := again.Codes[0].Update(context.Background()); failure != nil || steps(w) != "built\nbuilt\n" {
		t.Errorf("%v, %q", failure, steps(w))
	}
	// what was built before is not built again, unless its program is gone
	f := plan.Function{Name: "f", Watch: []string{"*.py"}, Build: sh("echo built >> steps; touch made")}
	w, _ = workshop(t, f, "a.py")
	f.Dir, f.Start = w.dir, []string{filepath.Join(w.dir, "made")}
	for _, want := range []string{"built\n", "built\n", "built\nbuilt\n"} {
		if strings.Count(want, "built") == 2 {
			os.Remove(f.Start[0])
		}
		next := New(plan.Expand(&plan.Project{Dir: w.dir, Functions: []plan.Function{f}}), w.log)
		if _, failure := next.Codes[0].Update(context.Background()); failure != nil || steps(w) != want {
			t.Errorf("%v, %q, want %q", failure, steps(w), want)
		}
	}
}

// Files that come back to what they were are built again: what the build wrote
// meanwhile is of others.
func TestBackToWhatTheyWere(t *testing.T) {
	w, c := workshop(t, plan.Function{Watch: []string{"*.py"},
		Build: sh(`cat a.py > made; grep -q fails a.py && exit 1; true`)}, "a.py")
	made := func(text string) string {
		write(t, w.dir, "a.py", text)
		_, _ = c.Update(context.Background()) // one of them fails
		out, _ := os.ReadFile(filepath.Join(w.dir, "made"))
		return string(out)
	}
	for _, text := range []string{"one", "two", "one", "fails", "one", "fails", "two"} {
		if got := made(text); got != text {
			t.Errorf("of %s there is %s", text, got)
		}
	}
	if c.failure != nil || !strings.HasPrefix(c.Label(), "v") {
		t.Errorf("in the end %v", c.failure)
	}
}

// A build can be interrupted, and one that fails is retried once the files
// are others.
func TestABuildThatFails(t *testing.T) {
	w, c := workshop(t, plan.Function{Watch: []string{"*.py"},
		Build: sh(`echo try >> tries; grep -q good a.py || { echo a.py is bad; exit 1; }`)}, "a.py")
	for range 3 {
		if _, failure := c.Update(context.Background()); failure == nil ||
			failure.Text != "f does not build: sh exited with code 1" || failure.Lines[0] != "a.py is bad" {
			t.Fatalf("failure %+v", failure)
		}
	}
	if tries, _ := os.ReadFile(filepath.Join(w.dir, "tries")); string(tries) != "try\n" {
		t.Errorf("the same files were built %q", tries)
	}
	write(t, w.dir, "a.py", "good")
	if _, failure := c.Update(context.Background()); failure != nil || c.Label()[:2] != "v1" {
		t.Errorf("fixed: %v, %s", failure, c.Label())
	}
	_, slow := workshop(t, plan.Function{Build: sh("exec sleep 60")})
	ctx, stop := context.WithCancel(context.Background())
	go func() {
		for {
			slow.mu.Lock()
			doing := slow.doing
			slow.mu.Unlock()
			if doing == "building" {
				stop()
				return
			}
		}
	}()
	if _, failure := slow.Update(ctx); failure == nil || !strings.Contains(failure.Text, "was interrupted") {
		t.Errorf("interrupted: %+v", failure)
	}
}

// The watcher sees files that are written, replaced, removed, and made in
// folders that are new.
func TestTheWatcherSees(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "lib/a.py", "1")
	w, err := Watch(dir, []string{"lib/**/*.py", "one/*.txt"}, []string{filepath.Join(dir, "env", "x.env")})
	if err == nil {
		t.Fatal("a folder that is not there is watched")
	}
	write(t, dir, "env/x.env", "A=1")
	if w, err = Watch(dir, []string{"lib/**/*.py", "one/*.txt"},
		[]string{filepath.Join(dir, "env", "x.env")}); err != nil {
		t.Fatal(err)
	}
	touched, rested := make(chan string, 1000), make(chan bool, 1000)
	over := make(chan bool)
	go func() { w.Follow(func(p string) { touched <- p }, func() { rested <- true }); close(over) }()
	saw := func(name string) {
		t.Helper()
		for {
			if p := <-touched; p == filepath.Join(dir, name) {
				break
			}
		}
		<-rested
	}
	write(t, dir, "lib/a.py", "2")
	saw("lib/a.py")
	write(t, dir, "lib/new/deep/b.py", "1")
	saw("lib/new")
	for seen := false; !seen; { // the new folder is not watched at once
		write(t, dir, "lib/new/deep/b.py", "2")
		select {
		case p := <-touched:
			seen = p == filepath.Join(dir, "lib/new/deep/b.py")
		case <-time.After(5 * time.Millisecond):
		}
	}
	write(t, dir, "env/x.env", "A=2")
	saw("env/x.env")
	write(t, dir, "lib/a.py.new", "3")
	if err := os.Rename(filepath.Join(dir, "lib/a.py.new"), filepath.Join(dir, "lib/a.py")); err != nil {
		t.Fatal(err)
	}
	saw("lib/a.py")
	os.Remove(filepath.Join(dir, "lib/a.py"))
	saw("lib/a.py")
	w.Close()
	<-over
}
