package plan

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/fault"
)

// Upstream is a service that functions call, and its stand-in: functions get the stand-in's address.
type Upstream struct {
	Name      string
	URL       string   // of the real one; "" where a service of the project is it
	Service   int      // index of that service, or -1
	Env       string   // the variable that holds the stand-in's address; "" for none
	Proxy     bool     // calls that go through a proxy are taken, too
	Recording string   // absolute path of the recording
	Redact    []string // JSON Pointers into bodies whose values are redacted
	// what does not tell one request from another: names of query and form parameters, and JSON Pointers into bodies
	Ignore []string
	Mode   Mode
	// PassMissing passes on what is not in the recording.
	PassMissing bool
	Behaviour
}

// Mode is what a stand-in does with a call.
type Mode uint8

const (
	// ModeDefault is Replay in a drill where there is a recording, and Pass elsewhere.
	ModeDefault Mode = iota
	Pass             // it is passed on to the real service
	Record           // likewise, and recorded
	Replay           // it is answered from the recording
)

// Modes holds the names of the modes, by their numbers; that of ModeDefault is empty.
var Modes = []string{"", "pass", "record", "replay"}

func (m Mode) String() string { return Modes[m] }

// FaultKind is how a call fails on purpose.
type FaultKind uint8

const (
	FaultStatus FaultKind = iota // it is answered with a status
	FaultReset                   // its connection is reset
	FaultStall                   // it is never answered
)

// FaultKinds holds the names of the faults without a status, by their numbers.
var FaultKinds = []string{"", "reset", "stall"}

// Behaviour is how a stand-in differs from what it stands for. It can change while a drill runs. The zero value
// changes nothing.
type Behaviour struct {
	Times       float64       // what a recorded latency is multiplied by; 0 for 1
	P50, P99    time.Duration // of a lognormal latency in place of the recorded one; 0 for none
	Fail        fault.Share   // of the calls
	Fault       FaultKind
	Status      int // of FaultStatus
	Concurrency int // calls at a time; 0 for no bound
}

// DefaultFaultStatus is the status of calls that fail on purpose where none is given.
const DefaultFaultStatus = 503

// Check returns why a behaviour cannot be, or "".
func (b *Behaviour) Check() string {
	switch {
	case b.Times < 0 || b.Times > 1000:
		return "times must be a factor from 0.001 to 1000"
	case (b.P50 > 0) != (b.P99 > 0):
		return "latency needs both p50 and p99"
	case b.P50 > 0 && b.Times > 0:
		return "latency is either a factor (times) or a pattern (p50 and p99)"
	case b.P99 < b.P50:
		return fmt.Sprintf("p99 (%v) must not be below p50 (%v)", b.P99, b.P50)
	case b.P99 > time.Hour:
		return "latency must be at most 1 h"
	case b.Concurrency < 0:
		return "concurrency must not be negative"
	case b.Fail < 0 || b.Fail > fault.Whole:
		return "fail must be a share from 0% to 100%"
	}
	return ""
}

// String describes the behaviour in a few words; "" where it changes nothing.
func (b *Behaviour) String() string {
	var parts []string
	switch {
	case b.P50 > 0:
		parts = append(parts, fmt.Sprintf("latency p50 %v p99 %v", b.P50, b.P99))
	case b.Times > 0 && b.Times != 1:
		parts = append(parts, "latency × "+strconv.FormatFloat(b.Times, 'g', 4, 64))
	}
	if b.Fail > 0 {
		parts = append(parts, fmt.Sprintf("%s fail (%s)", ShareText(b.Fail), b.FaultText()))
	}
	if b.Concurrency > 0 {
		parts = append(parts, fmt.Sprintf("at most %d at a time", b.Concurrency))
	}
	return strings.Join(parts, ", ")
}

// FaultText names the fault: a status, reset or stall.
func (b *Behaviour) FaultText() string {
	if b.Fault != FaultStatus {
		return FaultKinds[b.Fault]
	}
	if b.Status == 0 {
		return strconv.Itoa(DefaultFaultStatus)
	}
	return strconv.Itoa(b.Status)
}

// ShareText formats a share such as 2 %.
func ShareText(s fault.Share) string {
	return strconv.FormatFloat(float64(s)*100/float64(fault.Whole), 'f', -1, 64) + " %"
}

// ParseShare reads a share such as 5% or 0.25%.
func ParseShare(text string) (fault.Share, error) {
	number, ok := strings.CutSuffix(strings.TrimSpace(text), "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !ok || err != nil || !(v >= 0 && v <= 100) {
		return 0, fmt.Errorf("%q must be a share from 0%% to 100%%, such as 5%%", text)
	}
	return fault.Share(v*float64(fault.Whole)/100 + 0.5), nil
}

// UpstreamNamed returns the index of an upstream, or -1.
func (p *Project) UpstreamNamed(name string) int {
	for i := range p.Upstreams {
		if p.Upstreams[i].Name == name {
			return i
		}
	}
	return -1
}

// UpstreamsOf returns the upstreams of the project as a drill has them: with its own settings, and with no mode left
// open. recorded reports whether an upstream has a recording.
func (p *Project) UpstreamsOf(d *Drill, recorded func(*Upstream) bool) []Upstream {
	all := p.Upstreams
	if d != nil && d.Upstreams != nil {
		all = d.Upstreams
	}
	out := make([]Upstream, len(all))
	for i := range all {
		out[i] = all[i]
		if u := &out[i]; u.Mode == ModeDefault {
			if u.Mode = Pass; d != nil && recorded(u) {
				u.Mode = Replay
			}
		}
	}
	return out
}

// Set changes one setting of an upstream: its mode, or a setting by its key, such as times or fail.
func (u *Upstream) Set(key, value string) error {
	number := func(to *float64) error {
		v, err := strconv.ParseFloat(value, 64)
		if err != nil || !(v >= 0.001 && v <= 1000) {
			return fmt.Errorf("%q must be a factor from 0.001 to 1000", value)
		}
		*to = v
		return nil
	}
	duration := func(to *time.Duration) error {
		v, err := time.ParseDuration(value)
		if err != nil || v <= 0 || v > time.Hour {
			return fmt.Errorf("%q must be a duration up to 1h, such as 40ms", value)
		}
		*to = v
		return nil
	}
	switch key {
	case "mode":
		for m, name := range Modes {
			if name == value && name != "" {
				u.Mode = Mode(m)
				return nil
			}
		}
		return fmt.Errorf("%q is not a mode; use pass, record or replay", value)
	case "times":
		u.P50, u.P99 = 0, 0
		return number(&u.Times)
	case "p50":
		u.Times = 0
		return duration(&u.P50)
	case "p99":
		u.Times = 0
		return duration(&u.P99)
	case "fail":
		s, err := ParseShare(value)
		u.Fail = s
		return err
	case "status":
		return u.SetStatus(value)
	case "concurrency":
		n, err := strconv.Atoi(value)
		if err != nil || n < 0 {
			return fmt.Errorf("%q must be a whole number; 0 for no bound", value)
		}
		u.Concurrency = n
		return nil
	case "missing":
		if value != "fail" && value != "pass" {
			return fmt.Errorf("%q; use fail or pass", value)
		}
		u.PassMissing = value == "pass"
		return nil
	}
	return fmt.Errorf("unknown setting %q; available: %s", key, strings.Join(UpstreamSettings, ", "))
}

// UpstreamSettings are the keys that Set takes.
var UpstreamSettings = []string{"mode", "times", "p50", "p99", "fail", "status", "concurrency", "missing"}

// SetStatus sets what calls that fail on purpose end with: a status, reset or stall.
func (b *Behaviour) SetStatus(value string) error {
	for k, name := range FaultKinds {
		if name == value && name != "" {
			b.Fault, b.Status = FaultKind(k), 0
			return nil
		}
	}
	n, err := strconv.Atoi(value)
	if err != nil || n < 200 || n > 599 {
		return fmt.Errorf("%q is not a status from 200 to 599, reset or stall", value)
	}
	b.Fault, b.Status = FaultStatus, n
	return nil
}
