package runner

import (
	"math"
	"testing"

	"github.com/shirou/gopsutil/v4/cpu"
)

// What the host of a virtual machine took counts as in use, and is known apart.
func TestSharesOfTheMachine(t *testing.T) {
	from := cpu.TimesStat{User: 100, System: 20, Idle: 300, Iowait: 5, Steal: 7}
	to := cpu.TimesStat{User: 130, System: 25, Idle: 350, Iowait: 10, Steal: 17}
	if busy, stolen := busyShare(from, to), stolenShare(from, to); math.Abs(busy-0.45) > 1e-9 ||
		math.Abs(stolen-0.1) > 1e-9 {
		t.Errorf("%v in use, %v stolen", busy, stolen)
	}
	if stolen := stolenShare(to, to); stolen != 0 {
		t.Errorf("%v stolen in no time", stolen)
	}
}
