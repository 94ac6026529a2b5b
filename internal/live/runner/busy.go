package runner

import (
	"math"

	"github.com/shirou/gopsutil/v4/cpu"
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

// share returns the share since the start, or NaN where it is not known.
func (b busyMeter) share() float64 {
	t, err := cpu.Times(false)
	if !b.ok || err != nil || len(t) == 0 {
		return math.NaN()
	}
	idle := t[0].Idle + t[0].Iowait - b.from.Idle - b.from.Iowait
	all := total(t[0]) - total(b.from)
	if all <= 0 {
		return math.NaN()
	}
	return min(max(1-idle/all, 0), 1)
}

func total(t cpu.TimesStat) float64 {
	return t.User + t.System + t.Idle + t.Nice + t.Iowait + t.Irq + t.Softirq + t.Steal
}
