//go:build !linux

package proc

import (
	"syscall"
	"time"
)

// Bounded returns that nothing is enforced here.
func Bounded() Enforcement {
	return Enforcement{Why: "this system has no control groups"}
}

type group struct{}

func newGroup(Bounds) (*group, error) { return nil, nil }

func (g *group) needsThread() bool { return false }

func (g *group) enter(*syscall.SysProcAttr) {}

func (g *group) sit() error { return nil }

func (g *group) rise() {}

func (g *group) usage() Usage { return Usage{} }

func (g *group) kill() {}

func (g *group) remove() {}

// Ungroup does nothing here.
func Ungroup() {}

func removeTrees([]string) {}

func sample(int) Usage { return Usage{} }

func meter() string { return "" }

// Computed returns 0: that is not known here.
func (p *Process) Computed() (cpu, waited time.Duration) { return 0, 0 }

// Sample does nothing here.
func Sample([]*Process) {}
