// Package anatomy takes the start of a function apart: from what was seen of its threads and children it makes an
// account of where the time went, the tree of its imports, and the sentences that put the answer first.
package anatomy

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Class is what a stretch of time was spent on.
type Class uint8

const (
	Running  Class = iota // on a processor
	Waiting               // for a processor
	Disk                  // for a disk
	Network               // for another program, over a connection
	Sleeping              // for a time to pass
	Unseen                // for something that is not known
	Classes  = iota
)

// Words are the names of the classes in sentences and drawings.
var Words = [Classes]string{"running", "waiting for a processor", "disk", "network", "sleeping", "not seen"}

// Keys are the names of the classes in JSON and budgets.
var Keys = [Classes]string{"running", "waiting", "disk", "network", "sleeping", "unseen"}

// Way is what a task that does not run was seen to wait in.
type Way uint8

const (
	NoWay     Way = iota // it runs, or it is not known
	InSleep              // until a time
	InDisk               // for a disk
	InNetwork            // for a connection
	InLock               // for another thread
	InPipe               // for what another thread or process writes or reads
	InChild              // for a child to end, or to begin another program
	InLoop               // for any of several things
	InFile               // for a file that is no disk's, such as a terminal
	InOther              // for something else
)

// Step is what was seen of a task between two looks at it. Run and Ready are exact, by the kernel's own count; for
// the rest of the time the task was in Way.
type Step struct {
	From, To   time.Duration // since exec
	Run, Ready time.Duration // on a processor, and ready for one
	Way        Way           // at its end
	On         string        // what it waited for, as far as that is known: an address, a file
	Call       uint64        // which wait it is: the same for looks at one wait
	Until      time.Duration // since exec: when a wait with a limit would end by itself; 0 for one without
}

// Task is a thread of the function, or of one of its children.
type Task struct {
	ID, Process int32 // the first thread of a process has its number
	Parent      int32 // the process that started its process; 0 for the function itself
	Name        string
	Command     string // of the process
	Steps       []Step // in the order of time
}

// Part is a share of the start: of one class, for one reason.
type Part struct {
	Class Class
	On    string        // an address, a file, a command or a thread; "" for the main thread itself
	Took  time.Duration // all of it
	N     int           // how many separate stretches it is
}

// Span is a stretch of a task's time.
type Span struct {
	From, To time.Duration
	Class    Class
	On       string
}

// Account is where the time of a start went.
type Account struct {
	Total  time.Duration
	Shares [Classes]time.Duration // their sum is Total
	Parts  []Part                 // the largest first
	Line   []Span                 // the main thread's, with what it waited for put in place
}

// Of walks the main thread of a start and returns the account of it. Where that thread waits for another one, for a
// child, for a lock or a pipe, what the others did meanwhile takes the place of the wait. total is the time from exec
// to ready; what no look covers is not seen.
func Of(tasks []Task, main int32, total time.Duration) *Account {
	a := &Account{Total: total}
	at := slices.IndexFunc(tasks, func(t Task) bool { return t.ID == main })
	if at < 0 {
		a.add(Span{0, total, Unseen, ""})
		a.sum()
		return a
	}
	tasks = settled(tasks)
	w := walker{tasks: tasks, waits: waitsOf(tasks)}
	seen := time.Duration(0)
	for i := range tasks[at].Steps {
		s := &tasks[at].Steps[i]
		from, to := max(s.From, seen), min(s.To, total)
		if to <= from {
			continue
		}
		if from > seen {
			a.add(Span{seen, from, Unseen, ""})
		}
		w.step(a, at, s, from, to)
		seen = to
	}
	if seen < total {
		a.add(Span{seen, total, Unseen, ""})
	}
	a.sum()
	return a
}

// add appends a span; one that continues the last becomes part of it.
func (a *Account) add(s Span) {
	if s.To <= s.From {
		return
	}
	if n := len(a.Line); n > 0 && a.Line[n-1].To == s.From && a.Line[n-1].Class == s.Class && a.Line[n-1].On == s.On {
		a.Line[n-1].To = s.To
		return
	}
	a.Line = append(a.Line, s)
}

func (a *Account) sum() {
	type key struct {
		class Class
		on    string
	}
	parts := map[key]*Part{}
	for _, s := range a.Line {
		a.Shares[s.Class] += s.To - s.From
		k := key{s.Class, s.On}
		if parts[k] == nil {
			parts[k] = &Part{Class: s.Class, On: s.On}
		}
		parts[k].Took += s.To - s.From
		parts[k].N++
	}
	for _, p := range parts {
		a.Parts = append(a.Parts, *p)
	}
	slices.SortFunc(a.Parts, func(x, y Part) int {
		return cmp.Or(cmp.Compare(y.Took, x.Took), cmp.Compare(x.Class, y.Class), strings.Compare(x.On, y.On))
	})
}

// settled returns tasks in whose steps no more is counted than has room there: the kernel counts at its own moments,
// so that what a thread ran can appear one look later. Where it runs and nothing was counted, it ran.
func settled(tasks []Task) []Task {
	out := slices.Clone(tasks)
	for t := range out {
		steps := slices.Clone(out[t].Steps)
		for i := range steps {
			s := &steps[i]
			over := s.Run + s.Ready - (s.To - s.From)
			for j := i - 1; over > 0 && j >= 0 && steps[j].Way == NoWay; j-- {
				room := steps[j].To - steps[j].From - steps[j].Run - steps[j].Ready
				move := min(over, max(room, 0))
				run := min(move, s.Run)
				steps[j].Run, s.Run = steps[j].Run+run, s.Run-run
				steps[j].Ready, s.Ready = steps[j].Ready+move-run, s.Ready-(move-run)
				over -= move
			}
		}
		for i := range steps {
			s := &steps[i]
			if room := s.To - s.From - s.Run - s.Ready; s.Way == NoWay && room > 0 &&
				(i == 0 || steps[i-1].Way == NoWay) {
				s.Run += room
			}
		}
		out[t].Steps = steps
	}
	return out
}

// wait is one wait of a task: all looks at it together.
type wait struct{ from, to time.Duration }

// waitsOf returns the wait that each step of each task belongs to.
func waitsOf(tasks []Task) [][]wait {
	out := make([][]wait, len(tasks))
	for t := range tasks {
		steps := tasks[t].Steps
		out[t] = make([]wait, len(steps))
		for i := 0; i < len(steps); {
			j := i + 1
			w := wait{steps[i].From + steps[i].Run + steps[i].Ready, steps[i].To}
			for ; j < len(steps) && steps[j].Way == steps[i].Way && steps[j].Call == steps[i].Call &&
				steps[j].Run == 0; j++ {
				w.to = steps[j].To
			}
			for k := i; k < j; k++ {
				out[t][k] = w
			}
			i = j
		}
	}
	return out
}

type walker struct {
	tasks []Task
	waits [][]wait
}

// step adds one look at a task to the account, cut to a stretch of time.
func (w *walker) step(a *Account, task int, s *Step, from, to time.Duration) {
	length := to - from
	run := min(s.Run, length)
	ready := min(s.Ready, length-run)
	// a thread that has waited runs after its wait, and one that waits ran before
	at := from
	rest := length - run - ready
	before := s.Way != NoWay
	if before {
		a.add(Span{at, at + run, Running, ""})
		a.add(Span{at + run, at + run + ready, Waiting, ""})
		at += run + ready
	}
	if rest > 0 {
		w.waited(a, task, s, at, at+rest)
		at += rest
	}
	if !before {
		a.add(Span{at, at + ready, Waiting, ""})
		a.add(Span{at + ready, at + ready + run, Running, ""})
	}
}

// least is how much of a stretch others must be seen at something for it to be what was waited for.
const least = 3 // a third

// waited adds a stretch in which a task did not run.
func (w *walker) waited(a *Account, task int, s *Step, from, to time.Duration) {
	way := s.Way
	if way == NoWay { // it runs again at the end of the look: what it was in before is what ended
		way, s = w.before(task, s)
	}
	switch way {
	case InSleep:
		a.add(Span{from, to, Sleeping, ""})
		return
	case InDisk:
		a.add(Span{from, to, Disk, s.On})
		return
	case InNetwork:
		a.add(Span{from, to, Network, s.On})
		return
	}
	const pieces = 4000
	for grid := max(2*time.Millisecond, (to-from)/pieces); from < to; from += grid {
		w.piece(a, task, s, from, min(from+grid, to))
	}
}

// piece adds a piece of a stretch in which a task waited for another one, or for any of several things.
func (w *walker) piece(a *Account, task int, s *Step, from, to time.Duration) {
	way := s.Way
	if way != NoWay && w.others(a, task, from, to) {
		return
	}
	switch {
	case w.timedOut(task, s):
		a.add(Span{from, to, Sleeping, ""})
	case way == InLoop && s.On != "":
		a.add(Span{from, to, Network, s.On})
	default:
		a.add(Span{from, to, Unseen, s.On})
	}
}

// before returns the way that a task was in at the look before one.
func (w *walker) before(task int, s *Step) (Way, *Step) {
	steps := w.tasks[task].Steps
	for i := range steps {
		if &steps[i] == s && i > 0 {
			return steps[i-1].Way, &steps[i-1]
		}
	}
	return NoWay, s
}

// late is how much earlier than its limit a wait may be seen to end: it is seen only now and then.
const late = 4 * time.Millisecond

// timedOut reports whether a wait with a limit lasted until that.
func (w *walker) timedOut(task int, s *Step) bool {
	for i := range w.tasks[task].Steps {
		if &w.tasks[task].Steps[i] == s {
			return w.ended(task, i)
		}
	}
	return false
}

func (w *walker) ended(task, step int) bool {
	s := &w.tasks[task].Steps[step]
	return s.Until > 0 && w.waits[task][step].to >= s.Until-late
}

// nap is the longest sleep that runtimes take by themselves, which is not waited for.
const nap = 20 * time.Millisecond

// helpers are threads that runtimes have for themselves, by the beginning of their names: what waits does not wait
// for them, unless there is no one else.
var helpers = []string{"C1 Compiler", "C2 Compiler", "GC Thread", "G1 ", "VM Thread", "VM Periodic", "Reference Handl",
	"Finalizer", "Signal Dispatch", "Service Thread", "Monitor Deflati", "Common-Cleaner", "Notification T", "Sweeper",
	"libuv-worker", "V8Worker", "DelayedTaskSche"}

func (t *Task) helps() bool {
	return slices.ContainsFunc(helpers, func(name string) bool { return strings.HasPrefix(t.Name, name) })
}

// did is what another task did in a stretch.
type did struct {
	task  int
	time  [Classes]time.Duration
	on    string
	total time.Duration
	maybe time.Duration // of the network: it waits for any of several things, and has connections
}

// rank orders what tasks did: running says more than a wait, which may be for anything.
func rank(d *did) time.Duration {
	return 16*d.time[Running] + 8*d.time[Waiting] + 6*d.time[Disk] + 4*(d.time[Network]-d.maybe) + 2*d.time[Sleeping] +
		d.maybe
}

// others adds what other tasks did in a stretch, and reports whether they did anything: of those that did something
// the one that did most, with what it ran before what it waited for.
func (w *walker) others(a *Account, task int, from, to time.Duration) bool {
	var best, helper did
	for i := range w.tasks {
		if i == task {
			continue
		}
		d := w.in(i, from, to)
		if d.total == 0 {
			continue
		}
		if of := &best; !w.tasks[i].helps() {
			if rank(&d) > rank(of) {
				*of = d
			}
		} else if rank(&d) > rank(&helper) {
			helper = d
		}
	}
	if best.total*least < to-from {
		if helper.time[Running]*least < to-from {
			return false
		}
		best = helper
	}
	on := w.tasks[best.task].Name
	if w.tasks[best.task].Process != w.tasks[task].Process {
		on = w.tasks[best.task].Command
	}
	at := from
	for _, c := range []Class{Running, Waiting, Disk, Network, Sleeping} {
		length := min(best.time[c], to-at)
		name := on
		if c == Disk || c == Network {
			name = best.on
		}
		a.add(Span{at, at + length, c, name})
		at += length
	}
	a.add(Span{at, to, Unseen, on})
	return true
}

// in returns what a task did in a stretch, as far as that can be something that another one waits for.
func (w *walker) in(task int, from, to time.Duration) did {
	d := did{task: task}
	steps := w.tasks[task].Steps
	first, _ := slices.BinarySearchFunc(steps, from, func(s Step, at time.Duration) int {
		return cmp.Compare(s.To, at)
	})
	for i := first; i < len(steps) && steps[i].From < to; i++ {
		s := &steps[i]
		length, whole := min(s.To, to)-max(s.From, from), s.To-s.From
		if length <= 0 || whole <= 0 {
			continue
		}
		run := time.Duration(float64(s.Run) * float64(length) / float64(whole))
		ready := time.Duration(float64(s.Ready) * float64(length) / float64(whole))
		run = min(run, length)
		ready = min(ready, length-run)
		d.time[Running] += run
		d.time[Waiting] += ready
		rest := length - run - ready
		switch s.Way {
		case InDisk:
			d.time[Disk] += rest
			d.on = s.On
		case InNetwork:
			d.time[Network] += rest
			d.on = s.On
		case InLoop:
			if x := w.waits[task][i]; x.to-x.from >= nap && w.ended(task, i) {
				d.time[Sleeping] += rest
			} else if s.On != "" && !w.ended(task, i) {
				d.time[Network] += rest
				d.maybe += rest
				d.on = s.On
			}
		default:
			x := w.waits[task][i]
			child := w.tasks[task].Parent != 0 && w.tasks[task].ID == w.tasks[task].Process
			if long := x.to-x.from >= nap && !w.tasks[task].helps(); s.Way == InSleep && (long || child) ||
				long && w.ended(task, i) {
				d.time[Sleeping] += rest
			}
		}
	}
	for _, t := range d.time {
		d.total += t
	}
	return d
}

// Alone returns what one task did by itself, without what it waited for put in place.
func Alone(tasks []Task, task int, total time.Duration) []Span {
	a := &Account{}
	one := settled(tasks[task : task+1])
	w := walker{tasks: one, waits: waitsOf(one)}
	for i := range one[0].Steps {
		s := &one[0].Steps[i]
		if from, to := s.From, min(s.To, total); to > from {
			w.step(a, 0, s, from, to)
		}
	}
	return a.Line
}
