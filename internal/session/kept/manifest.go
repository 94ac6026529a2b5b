package kept

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/transport"
)

// Manifest is the plan of a run as it is kept with it: without the values of environment variables,
// which may be secrets.
type Manifest struct {
	Settle      time.Duration    `json:"settle"`
	Concurrency int              `json:"concurrency"`
	Idempotence bool             `json:"idempotence"`
	Limits      []plan.Limits    `json:"limits"` // of each function
	Changes     []plan.Change    `json:"changes"`
	Functions   []ToldOf         `json:"functions"`
	Feeds       []string         `json:"feeds"` // in words
	BeginEmpty  bool             `json:"begin_empty,omitempty"`
	Again       string           `json:"again,omitempty"` // the run that it replays
	Cold        *plan.ColdStarts `json:"cold_starts,omitempty"`
}

// ToldOf is how a function was to be started.
type ToldOf struct {
	Name      string        `json:"name"`
	Transport string        `json:"transport"`
	Start     []string      `json:"start"`
	Env       []string      `json:"env"` // names
	Timeout   time.Duration `json:"timeout"`
	Memory    int64         `json:"memory"`
	CPU       float64       `json:"cpu"`
}

// NewManifest describes a drill of a project.
func NewManifest(p *plan.Project, d *plan.Drill) []byte {
	t := Manifest{Settle: d.Settle, Concurrency: d.Concurrency, Idempotence: d.Idempotence, Limits: d.Limits,
		Changes: d.Changes, BeginEmpty: d.BeginEmpty, Again: d.Again, Cold: d.Cold}
	for i := range p.Functions {
		f := &p.Functions[i]
		of := ToldOf{Name: f.Name, Transport: f.Transport.String(), Start: withoutSecrets(f.Start), Timeout: f.Timeout,
			Memory: f.Memory, CPU: f.CPU, Env: []string{}}
		for _, e := range f.Env {
			name, _, _ := strings.Cut(e, "=")
			of.Env = append(of.Env, name)
		}
		t.Functions = append(t.Functions, of)
	}
	for i := range d.Feeds {
		f := &d.Feeds[i]
		text := p.Sources[f.Source].Name + ": " + p.FeedName(f)
		for _, ph := range f.Phases {
			text += ", " + ph.Pattern.String()
		}
		t.Feeds = append(t.Feeds, text)
	}
	text, _ := json.Marshal(t) // plain data always marshals
	return text
}

// withoutSecrets drops from a command what its names mark as secret: token=…, --password=…, and
// what follows such a name.
func withoutSecrets(args []string) []string {
	out := slices.Clone(args)
	for i, arg := range args {
		name, value, paired := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		switch secret := payload.SecretParameter(name); {
		case secret && paired && value != "":
			out[i] = strings.TrimSuffix(arg, value) + transport.LeftOut
		case secret && !paired && strings.HasPrefix(arg, "-") && i+1 < len(out):
			out[i+1] = transport.LeftOut
		}
	}
	return out
}

// machine describes what the program runs on.
var Machine = sync.OnceValue(func() string {
	var parts []string
	if all, err := cpu.Info(); err == nil && len(all) > 0 && all[0].ModelName != "" {
		parts = append(parts, strings.Join(strings.Fields(all[0].ModelName), " "))
	}
	parts = append(parts, text.Plural(runtime.NumCPU(), "processor"))
	if m, err := mem.VirtualMemory(); err == nil {
		parts = append(parts, fmt.Sprintf("%.0f GiB", float64(m.Total)/(1<<30)))
	}
	system := runtime.GOOS
	if version, err := host.KernelVersion(); err == nil {
		system += " " + version
	}
	return strings.Join(append(parts, system), ", ")
})

// gitPatience bounds the time that git may take.
const gitPatience = 2 * time.Second

// Commit returns the version of the code in a folder, and whether it was changed
// since; "" where there is no git, or no repository.
func Commit(dir string) string {
	id, ok := git(dir, "rev-parse", "--short", "HEAD")
	if !ok {
		return ""
	}
	if changed, ok := git(dir, "status", "--porcelain", "--", "."); ok && changed != "" {
		return id + ", changed since"
	}
	return id
}

// BranchVariable is the environment variable that names the branch where git does not know it: pipelines check out
// a commit.
const BranchVariable = "NIGHTDRILL_BRANCH"

// Branch returns the branch of the code in a folder; "" where that is not known.
func Branch(dir string) string {
	if name := os.Getenv(BranchVariable); name != "" {
		return text.Harmless(name)
	}
	name, _ := git(dir, "branch", "--show-current")
	return text.Harmless(name)
}

// git runs git in a folder, and returns what it printed.
func git(dir string, args ...string) (out string, ok bool) {
	ctx, cancel := context.WithTimeout(context.Background(), gitPatience)
	defer cancel()
	c := exec.CommandContext(ctx, "git", append([]string{"-C", dir, "--no-optional-locks"}, args...)...)
	c.Stdin = nil
	var printed strings.Builder
	c.Stdout = &printed
	err := proc.Beside(c.Start)
	if err == nil {
		err = c.Wait()
	}
	return strings.TrimSpace(printed.String()), err == nil
}
