// Package build keeps the functions of a project startable: their services run, their code is built
// and prepared, each version has its name, and changes of files are noticed.
package build

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/loader"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/services"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// Package returns what of a function would be deployed, how many files of how many bytes: those that `package`
// names; else the program that a build makes; else the files that are watched, and the program that is started
// where it is the user's own. It is 0 where that is not known.
func Package(f *plan.Function, dir string) (n int, bytes int64) {
	own := ""
	if f.Handler != nil && f.Handler.Language == plan.Java {
		own = project.HandlerPath(f)
	} else if len(f.Start) > 0 && strings.ContainsRune(f.Start[0], filepath.Separator) && (f.Handler == nil ||
		f.Handler.Built()) { // not one of the system's, and no interpreter
		own = proc.Program(f.Start[0])
	}
	patterns := f.Package
	if patterns == nil && (f.Build == nil || own == "") {
		patterns = f.Watch
	}
	files, err := Watched(dir, patterns)
	if err != nil {
		return 0, 0
	}
	seen := map[string]bool{}
	add := func(path string) {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && !seen[path] {
			seen[path] = true
			n, bytes = n+1, bytes+info.Size()
		}
	}
	for _, file := range files {
		add(filepath.Join(dir, filepath.FromSlash(file)))
	}
	if f.Package == nil && own != "" {
		_ = filepath.WalkDir(own, func(path string, _ fs.DirEntry, err error) error { // a file is its only one
			if err == nil {
				add(path)
			}
			return nil
		})
	}
	return n, bytes
}

// Failure is why something could not be brought about, in words, with the
// output that says more.
type Failure struct {
	Text  string
	Lines []string
	Held  bool // nothing to fix: a drill has the functions
}

func (f *Failure) Error() string { return f.Text }

// Builder prepares functions to be started: their services are ready, their code is built and
// prepared.
type Builder struct {
	dir      string // of the project
	Services *services.Set
	log      *logs.Log
	Codes    []*Code
	built    built
	watching atomic.Bool // changes of files are watched
	// Renewed, if not nil, is called with code that has changed, before anything that waited for it goes on.
	Renewed func(*Code)
}

// Code is the code of one function or variant.
type Code struct {
	w       *Builder
	Fn      int // index in the standing form of the project
	busy    sync.Mutex
	mu      sync.Mutex
	f       plan.Function
	number  int    // of the version, from 1; 0 before the first
	before  int    // versions that it had before the project was read again
	hash    string // of the watched files of that version
	tried   string // of those that could not be built
	made    string // of those that were built last, well or not: what stands where the build writes
	failure *Failure
	doing   string   // "building", "preparing", or ""
	told    *Failure // the last that was told
	lacks   string   // why its program cannot be started, as far as that can be seen before
	dirty   atomic.Bool
	touched atomic.Int64 // when a file last changed, in Unix ns
	glanced atomic.Int64 // when Glance looked last, in Unix ns
	updates atomic.Int32 // that are under way, one of them at work
	seen    []seenFile   // what was read last
}

// seenFile is a file as it was when it was read.
type seenFile struct {
	path     string
	modified time.Time
	size     int64
}

// New returns the builder of a project, of which nothing is built yet.
func New(s *plan.Expanded, log *logs.Log) *Builder {
	w := &Builder{dir: s.Dir, Services: services.New(s.Services, filepath.Join(s.Dir, project.StateDir), log), log: log,
		built: built{path: filepath.Join(s.Dir, project.StateDir, "built.json")}}
	for i := range s.Functions {
		c := &Code{w: w, Fn: i, f: s.Functions[i]}
		c.dirty.Store(true)
		c.lookFor()
		w.Codes = append(w.Codes, c)
	}
	return w
}

// lookFor looks up the program that the function is started with.
func (c *Code) lookFor() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lacks = ""
	if c.f.Transport == plan.Attach || len(c.f.Start) == 0 || c.f.Build != nil && c.number == 0 {
		return
	}
	if _, err := exec.LookPath(c.f.Start[0]); err != nil {
		c.lacks = fmt.Sprintf("does not start: %s not found, or cannot be started", c.f.Start[0])
	}
}

// Function returns the function as it is now.
func (c *Code) Function() plan.Function {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.f
}

// State returns the function as it is now, what is being done to it ("building", "preparing", or ""), and
// why it cannot be started, nil if it can as far as is known.
func (c *Code) State() (f plan.Function, doing string, failure *Failure) {
	c.mu.Lock()
	defer c.mu.Unlock()
	failure = c.failure
	if c.lacks != "" && failure == nil {
		failure = &Failure{Text: c.f.Name + " " + c.lacks}
	}
	return c.f, c.doing, failure
}

// Number returns the number of the code's version, from 1; 0 before its first use, which brings it up to date.
func (c *Code) Number() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.number
}

// Touch notes that files changed at a moment.
func (c *Code) Touch(at time.Time) {
	c.touched.Store(at.UnixNano())
	c.dirty.Store(true)
}

// Glance notes a change of the files that were read last, where it is not known yet: whoever fires right after a save
// is faster than the watching. It looks at most once in a few milliseconds.
func (c *Code) Glance() {
	const most, pause = 200, 5 * time.Millisecond
	now := time.Now().UnixNano()
	if last := c.glanced.Load(); now-last < int64(pause) || !c.glanced.CompareAndSwap(last, now) {
		return
	}
	c.mu.Lock()
	seen := c.seen
	c.mu.Unlock()
	for _, f := range seen[:min(len(seen), most)] {
		if i, err := os.Stat(f.path); err != nil || !i.ModTime().Equal(f.modified) || i.Size() != f.size {
			c.Touch(time.Now())
			return
		}
	}
}

// Continue counts versions on from those that the function had before the project was read again.
func (c *Code) Continue(was *Code) { c.before = was.before + was.number }

// SetEnv sets the environment of the function, NAME=value.
func (c *Code) SetEnv(env []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.f.Env = env
}

// SetWatched has changes of files reported by Touch, so that they need not be looked for.
func (w *Builder) SetWatched() { w.watching.Store(true) }

// Label names a version, such as "v3 1f2e3d".
func (c *Code) Label() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.f.Transport == plan.Attach:
		return "attached"
	case c.number == 0:
		return ""
	case c.hash == "":
		return fmt.Sprintf("v%d", c.before+c.number)
	}
	return fmt.Sprintf("v%d %s", c.before+c.number, c.hash[:6])
}

// settle is how long files must have been left alone before they are read: an
// editor writes in several steps.
const settle = 40 * time.Millisecond

// Update makes sure that the function's code is the one that its files hold now.
// changed reports whether it was another before. A failure leaves the version
// that was there.
func (c *Code) Update(ctx context.Context) (changed bool, failure *Failure) {
	if !c.dirty.Load() && c.updates.Load() == 0 {
		c.mu.Lock()
		defer c.mu.Unlock()
		return false, c.failure
	}
	c.updates.Add(1)
	defer c.updates.Add(-1)
	c.busy.Lock()
	defer c.busy.Unlock()
	defer func() {
		if changed && c.w.Renewed != nil { // before anyone who waits goes on
			c.w.Renewed(c)
		}
	}()
	defer c.lookFor()
	for left := settle - time.Since(time.Unix(0, c.touched.Load())); left > 0; left = settle - time.Since(time.Unix(0,
		c.touched.Load())) {
		t := time.NewTimer(left)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return false, &Failure{Text: "interrupted"}
		}
	}
	const lastTry = 3
	for try := range lastTry + 1 {
		c.dirty.Store(!c.w.watching.Load())
		f := c.Function()
		hash, err := c.read(&f)
		if err != nil {
			return false, &Failure{Text: fmt.Sprintf("the files of %s cannot be read: %v", f.Name, err)}
		}
		c.mu.Lock()
		same, again, failed := c.number > 0 && hash == c.hash && hash == c.made, hash == c.tried, c.failure
		if same {
			c.failure, c.tried = nil, ""
		} else if !again || failed == nil {
			c.made = hash
		}
		c.mu.Unlock()
		if same {
			return changed, nil
		}
		if again && failed != nil {
			return false, failed
		}
		failure = c.make(ctx, &f, hash)
		after, err := c.read(&f)
		c.mu.Lock()
		c.failure = failure
		if failure != nil {
			c.tried = hash
		} else if after == hash || err != nil || try == lastTry {
			c.tried, c.number, c.hash, c.made = "", c.number+1, after, after
			changed = c.number > 1
		}
		c.mu.Unlock()
		if after == hash || err != nil {
			break
		}
		// files changed while they were built, by a person or by the build: once more
	}
	return changed, failure
}

// make builds and prepares what the files hold, where that was not done before.
func (c *Code) make(ctx context.Context, f *plan.Function, hash string) *Failure {
	for _, step := range []struct {
		name, doing string
		args        []string
	}{{"build", "building", f.Build}, {"prepare", "preparing", f.Prepare}} {
		if step.args == nil {
			continue
		}
		key := hash + strings.Join(step.args, "\x00") + strings.Join(f.Env, "\x00")
		own := f.Handler.Built() && step.name == "build"
		if own { // the loader is built in
			key += loader.OfGo()
		}
		sum := sha256.Sum256([]byte(key))
		key = hex.EncodeToString(sum[:8])
		name := f.Name + " " + step.name
		if hash != "" && c.w.built.has(name, key) && startable(f) {
			continue
		}
		c.setDoing(step.doing)
		c.w.built.set(name, "") // interrupted, it is done again
		r := proc.Run(ctx, proc.Command{Args: step.args, Dir: f.Dir, Env: f.Env, Line: func(at time.Time, text string) {
			c.w.log.Add(at, f.Name, name, logs.Line, text)
		}})
		c.setDoing("")
		if r.Err != nil {
			c.w.log.Add(time.Now(), f.Name, name, logs.Note, r.Err.Error())
			if own && ctx.Err() == nil { // the command is ours, and what it says are the compiler's words
				return &Failure{Text: f.Name + " does not build", Lines: r.Lines}
			}
			return &Failure{Text: fmt.Sprintf("%s does not %s: %v", f.Name, step.name, r.Err), Lines: r.Lines}
		}
		c.w.log.Add(time.Now(), f.Name, name, logs.Note,
			"done in "+text.Measured(r.Took))
		c.w.built.set(name, key)
		c.w.built.set(name+" took", r.Took.String())
	}
	return nil
}

// Prepared returns how long the last preparation took; 0 when it is not known.
func (c *Code) Prepared() time.Duration {
	c.w.built.mu.Lock()
	defer c.w.built.mu.Unlock()
	c.w.built.load()
	took, _ := time.ParseDuration(c.w.built.of[c.f.Name+" prepare took"])
	return took
}

// startable reports whether the program that the function is started with is there.
func startable(f *plan.Function) bool {
	if f.Handler != nil && f.Handler.Language == plan.Java {
		_, err := os.Stat(project.HandlerPath(f))
		return err == nil
	}
	if len(f.Start) == 0 || !strings.ContainsRune(f.Start[0], '/') {
		return true
	}
	_, err := os.Stat(f.Start[0])
	return err == nil
}

func (c *Code) setDoing(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.doing = what
}

// read returns the hash of the files that are watched; "" when none are.
func (c *Code) read(fn *plan.Function) (string, error) {
	files, err := Watched(c.w.dir, fn.Watch)
	if err != nil || len(files) == 0 {
		return "", err
	}
	sum, seen := sha256.New(), make([]seenFile, 0, len(files))
	for _, name := range files {
		f, err := os.Open(filepath.Join(c.w.dir, name))
		if err != nil {
			continue // it went away meanwhile
		}
		if i, err := f.Stat(); err == nil {
			seen = append(seen, seenFile{f.Name(), i.ModTime(), i.Size()})
		}
		fmt.Fprintf(sum, "%s\x00", name)
		_, err = io.Copy(sum, f)
		f.Close()
		if err != nil {
			return "", err
		}
	}
	c.mu.Lock()
	c.seen = seen
	c.mu.Unlock()
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// unwatched are folders that patterns find nothing in, unless they name them.
var unwatched = []string{".git", project.StateDir, "node_modules", "__pycache__"}

// Watched returns the files below dir that fit the patterns, sorted.
func Watched(dir string, patterns []string) (files []string, err error) {
	root := os.DirFS(dir)
	for _, p := range patterns {
		found, err := doublestar.Glob(root, p, doublestar.WithFilesOnly())
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			if !hidden(f, p) {
				files = append(files, f)
			}
		}
	}
	slices.Sort(files)
	return slices.Compact(files), nil
}

func hidden(file, pattern string) bool {
	for _, part := range strings.Split(file, "/") {
		if slices.Contains(unwatched, part) && !strings.Contains(pattern, part) {
			return true
		}
	}
	return false
}

// Prepare prepares functions to be started: services, build, preparation. say, if not nil, is called
// with each step.
func (w *Builder) Prepare(ctx context.Context, fns []int, say func(string)) *Failure {
	for _, fn := range fns {
		c := w.Codes[fn]
		f := c.Function()
		for _, n := range f.Needs {
			if say != nil {
				say("waiting for a service")
			}
			if err := w.Services.Need(ctx, n); err != nil {
				return &Failure{Text: fmt.Sprintf("%s needs a service: %v", f.Name, err)}
			}
		}
		if say != nil && c.dirty.Load() && f.Build != nil {
			say("building")
		}
		if _, failure := c.Update(ctx); failure != nil {
			return failure
		}
	}
	return nil
}

// built remembers across starts what was built and prepared from what.
type built struct {
	mu   sync.Mutex
	path string
	of   map[string]string
}

func (b *built) load() {
	if b.of == nil {
		b.of = map[string]string{}
		if text, err := os.ReadFile(b.path); err == nil {
			_ = json.Unmarshal(text, &b.of) // what cannot be read is built again
		}
	}
}

func (b *built) has(name, key string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.load()
	return b.of[name] == key
}

func (b *built) set(name, key string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.load()
	b.of[name] = key
	text, err := json.MarshalIndent(b.of, "", "  ")
	if err != nil {
		return
	}
	_ = catalog.WriteFile(b.path, text) // without it, it is built again
}
