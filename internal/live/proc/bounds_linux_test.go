package proc

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Where the program itself may use less than a function, as in a container, the function starts all the same.
func TestABoundBeyondTheProgramsOwn(t *testing.T) {
	h := groups()
	if h.cpu == "" {
		t.Skipf("NOT TESTED, since processors cannot be bounded here: %s", h.Why)
	}
	file, half, none := filepath.Join(h.cpu, "cpu.cfs_quota_us"), "50000", "-1"
	if h.version == 2 {
		file, half, none = filepath.Join(h.cpu, "cpu.max"), "50000 100000", "max"
	}
	if err := os.WriteFile(file, []byte(half), 0); err != nil {
		t.Skipf("NOT TESTED: %v", err)
	}
	defer func() { _ = os.WriteFile(file, []byte(none), 0) }()
	p, err := Start(Command{Args: []string{"sleep", "60"}, Bounds: Bounds{CPU: 1}})
	if err != nil {
		t.Fatal(err)
	}
	p.Kill()
	<-p.Done()
}

// Seats for bounded processes are kept ready, and nothing is left of their groups.
func TestSeats(t *testing.T) {
	b := Bounds{Memory: 64 << 20, CPU: 0.5}
	if says := Bounded().Says(b); strings.HasPrefix(says, "not enforced") {
		t.Skipf("NOT TESTED, since nothing can be bounded here: %s", says)
	}
	release := Reserve(b, 2)
	var all []*Process
	for range 4 { // more than are ready
		p, err := Start(Command{Args: []string{"sh", "-c", "sleep 60 & exec sleep 60"}, Bounds: b})
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
	for _, p := range all {
		if u := p.Used(); u.Peak <= 0 || u.Peak > b.Memory {
			t.Errorf("used %+v", u)
		}
		p.Kill()
		<-p.Done()
		if u := p.Used(); u.Killed {
			t.Errorf("killed for its memory, which it was not: %+v", u)
		}
	}
	release()
	Ungroup()
	h := groups()
	for _, dir := range []string{h.memory, h.cpu, h.account} {
		if dir != "" && isDir(dir) {
			t.Errorf("%s is left", dir)
		}
	}
	for _, dir := range []string{h.memory, h.cpu, h.account} { // for other tests
		if dir != "" {
			_ = os.Mkdir(dir, 0o755)
		}
	}
	if s := (Enforcement{Memory: "cgroup v2", Why: "the cpu controller is not given to this program"}).Says(
		b); s != "not enforced: the cpu controller is not given to this program" {
		t.Errorf("half of the bounds: %q", s)
	}
}

// All of a process's processes are counted, by its control group, or where there is none
// by what its session holds: a shell that starts the real thing uses what that uses.
func TestAllProcessesOfAnInstanceAreCounted(t *testing.T) {
	const holds = 80_000_000
	for _, metered := range []bool{true, false} {
		c := Command{Args: []string{"sh", "-c", "head -c 80000000 /dev/zero | tail -c 80000000 | sleep 60"},
			Bounds: Bounds{Meter: metered}}
		p, err := Start(c)
		if err != nil {
			t.Fatal(err)
		}
		for p.Used().Peak < holds {
			if Sample([]*Process{p}); sample(p.PID).Peak == 0 {
				t.Fatalf("it ended after %+v", p.Used())
			}
		}
		if own := sample(p.PID).Peak; own > holds/4 {
			t.Errorf("the shell alone has %d", own)
		}
		used := p.Used()
		p.Kill()
		<-p.Done()
		if u := p.Used(); u.Peak < used.Peak || u.CPU <= 0 {
			t.Errorf("metered %v: afterwards it has used %+v, before %+v", metered, u, used)
		}
	}
}
