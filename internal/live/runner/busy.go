package runner

import (
	"math"
	"os"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/load"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/record"
)

// busyMeter measures the share of the machine's processors in use.
type busyMeter struct {
	from cpu.TimesStat
	ok   bool
}

func startBusy() busyMeter {
	t, err := cpu.Times(false)
	if err != nil || len(t) == 0 {
		return busyMeter{}
	}
	return busyMeter{t[0], true}
}

// share returns the share since the start, or NaN where it is not known, and that which the host of a virtual
// machine gave to others.
func (b busyMeter) share() (busy, stolen float64) {
	t, err := cpu.Times(false)
	if !b.ok || err != nil || len(t) == 0 {
		return math.NaN(), 0
	}
	return busyShare(b.from, t[0]), stolenShare(b.from, t[0])
}

// stolenShare returns the share of the processors that a virtual machine's host gave to others between two moments
// (steal in proc_stat(5)).
func stolenShare(from, to cpu.TimesStat) float64 {
	all := total(to) - total(from)
	if all <= 0 {
		return 0
	}
	return min(max((to.Steal-from.Steal)/all, 0), 1)
}

// busyShare returns the share of the processors that was in use between two moments, or NaN where there is none.
func busyShare(from, to cpu.TimesStat) float64 {
	all := total(to) - total(from)
	if all <= 0 {
		return math.NaN()
	}
	return min(max(1-(to.Idle+to.Iowait-from.Idle-from.Iowait)/all, 0), 1)
}

func total(t cpu.TimesStat) float64 {
	return t.User + t.System + t.Idle + t.Nice + t.Iowait + t.Irq + t.Softirq + t.Steal
}

// machineMeter measures what the machine did since it was last asked.
type machineMeter struct {
	loads   *[]record.MachineLoad // what it measured
	was     cpu.TimesStat
	stalled uint64 // microseconds
	asked   time.Time
	at      clock.Time    // of the run, when it was last asked
	ours    time.Duration // processor time of the instances until then
}

// next returns what the machine did since it was last asked; ok is false the first time, and where it is not known.
func (m *machineMeter) next() (l record.MachineLoad, ok bool) {
	t, err := cpu.Times(false)
	if err != nil || len(t) == 0 {
		return l, false
	}
	now, stalled := time.Now(), stalledTime()
	was, before, asked := m.was, m.stalled, m.asked
	m.was, m.stalled, m.asked = t[0], stalled, now
	took := now.Sub(asked)
	if asked.IsZero() || took <= 0 {
		return l, false
	}
	share := busyShare(was, t[0])
	if math.IsNaN(share) {
		return l, false
	}
	l.Busy = int32(1000 * share * float64(runtime.NumCPU()))
	l.Running, l.Stalled = -1, -1
	if misc, err := load.Misc(); err == nil {
		l.Running = int32(max(misc.ProcsRunning-1, 0)) // without the one that looks
	}
	if stalled > 0 && before > 0 {
		l.Stalled = int32(min(1000*float64(stalled-before)/float64(took.Microseconds()), 1000))
	}
	return l, true
}

// stalledTime returns for how long some process has waited for a processor since the machine began, in microseconds
// (/proc/pressure/cpu, PSI); 0 where it is not known.
func stalledTime() uint64 {
	text, err := os.ReadFile("/proc/pressure/cpu")
	if err != nil {
		return 0
	}
	_, after, ok := strings.Cut(string(text), "total=")
	if !ok {
		return 0
	}
	digits, _, _ := strings.Cut(after, "\n")
	n, _ := strconv.ParseUint(strings.TrimSpace(digits), 10, 64) // 0 where it cannot be read
	return n
}
