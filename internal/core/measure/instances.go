package measure

import (
	"fmt"
	"slices"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
)

// Resources is what the instances of a function used.
type Resources struct {
	PeakMiB    *float64 `json:"peak_mib"`        // peak of one instance; nil if unknown
	TypicalMiB *float64 `json:"peak_median_mib"` // the median of the instances' peaks
	CPUSeconds float64  `json:"cpu_seconds"`     // of all instances together
	MemoryMiB  *float64 `json:"memory_mib"`      // that an instance may use; nil for no bound
	CPU        *float64 `json:"cpu"`             // processors that an instance may use; nil for no bound
	Enforced   string   `json:"enforced"`        // whether the bounds are enforced, in words; "" without any
	Held       *float64 `json:"held_gib_s"`      // memory held over time; nil if it is not known of all instances
	SizeMiB    *float64 `json:"package_mib"`     // of its files on disk; nil when they are not known
}

// instanceFigures fills in the figures of a function's instances: why they were started, what they
// used.
func instanceFigures(r *record.Run, fn int32, f *FunctionFigures) {
	of := &r.Functions[fn]
	f.Starts, f.Way = map[string]int{}, of.Way
	if of.Prepared > 0 {
		ms := figure.Milliseconds(of.Prepared)
		f.PrepareMillis = &ms
	}
	f.Resources.Enforced = of.Enforced
	if held, known := held(r, fn); known && f.Instances.Started > 0 && !of.Attached {
		f.Resources.Held = &held
	}
	if of.Size > 0 {
		mib := float64(of.Size) / (1 << 20)
		f.Resources.SizeMiB = &mib
	}
	if of.Memory > 0 {
		mib := float64(of.Memory) / (1 << 20)
		f.Resources.MemoryMiB = &mib
	}
	if of.CPU > 0 {
		f.Resources.CPU = &of.CPU
	}
	var peaks []int64
	var left []float64
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function != fn {
			continue
		}
		if text := in.StartText(); text != "" && !r.Cold() {
			f.Starts[text]++
		}
		f.Resources.CPUSeconds += in.CPU.Seconds()
		if in.Peak > 0 {
			peaks = append(peaks, in.Peak)
		}
		if in.Left != nil && *in.Left >= 0 {
			left = append(left, *in.Left)
		}
		if in.Stopped > 0 && in.Reason == engine.OutOfMemory {
			f.OutOfMemory++
		}
	}
	if n := len(peaks); n > 0 {
		slices.Sort(peaks)
		most, typical := float64(peaks[n-1])/(1<<20), float64(peaks[n/2])/(1<<20)
		f.Resources.PeakMiB, f.Resources.TypicalMiB = &most, &typical
	}
	if n := len(left); n > 0 {
		sum := 0.0
		for _, x := range left {
			sum += x
		}
		sum /= float64(n)
		f.FilesLeft = &sum
	}
}

// Way is one of the ways in which a function's instances start.
type Way struct {
	Function string   `json:"function"`
	Words    string   `json:"words"`      // how, in words
	Prepare  *float64 `json:"prepare_ms"` // the preparation, which is not part of a start
	Start    Figures  `json:"start"`      // from spawn to ready
	Answer   Figures  `json:"answer"`     // service time of the first invocation
	Whole    Figures  `json:"whole"`      // what the caller that waits for it feels
}

// ways compares the ways to start, where the run has more than one.
func ways(r *record.Run, s *Summary) (out []Way) {
	several := r.Cold()
	for i := range r.Functions {
		f, of := s.Functions[r.Functions[i].Name], &r.Functions[i]
		w := Way{Function: of.Name, Words: of.Way, Prepare: f.PrepareMillis, Start: f.Start, Answer: f.Service.Cold,
			Whole: f.Latency.Cold}
		switch {
		case of.Attached || f.Instances.Started == 0:
			continue
		case of.OneShot:
			w.Words = "a process for each invocation"
		case of.Way == "parked":
			w.Words = "resumed where it stopped: a lower bound for any snapshot restore"
		case of.Way == "prepared":
			w.Words = "new process, from what was prepared"
		}
		if w.Answer.N == 0 && f.Service.First.N > 0 {
			w.Answer, w.Whole = f.Service.First, f.Latency.First
			if of.KeepWarm > 0 {
				w.Words += ", kept warm"
			}
		}
		if f.FilesLeft != nil {
			w.Words += fmt.Sprintf("; %.0f %% of its files' pages were not in the page cache", *f.FilesLeft*100)
		}
		several = several || of.Way != "new process" && of.Way != ""
		out = append(out, w)
	}
	if !several {
		return nil
	}
	return out
}
