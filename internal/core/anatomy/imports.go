package anatomy

import (
	"bufio"
	"cmp"
	"encoding/json"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Import is a module, class or package that was loaded in a start.
type Import struct {
	Name   string
	Parent int           // that loaded it: its place in the list; -1 for none
	Total  time.Duration // with what it loaded itself
	Own    time.Duration // without
	N      int           // how many classes, of a package of Java; 1 of others
}

var pythonImport = regexp.MustCompile(`^import time:\s+(\d+) \|\s+(\d+) \|( +)(\S.*)$`)

// PythonImports reads what Python writes with PYTHONPROFILEIMPORTTIME: a line for each import when it has ended, its
// own and its whole time in microseconds, indented by its depth. It returns the imports, parents first, and the
// lines that are something else.
func PythonImports(lines []string) (out []Import, rest []string) {
	type open struct {
		Import
		depth    int
		children []int
	}
	var all []open
	var waiting []int // those whose parent has not ended yet
	for _, line := range lines {
		m := pythonImport.FindStringSubmatch(line)
		if m == nil {
			if !strings.HasPrefix(line, "import time: self [us]") {
				rest = append(rest, line)
			}
			continue
		}
		own, _ := strconv.ParseInt(m[1], 10, 64)
		whole, _ := strconv.ParseInt(m[2], 10, 64)
		x := open{Import{Name: m[4], Own: time.Duration(own) * time.Microsecond,
			Total: time.Duration(whole) * time.Microsecond, Parent: -1, N: 1}, len(m[3]) / 2, nil}
		for len(waiting) > 0 && all[waiting[len(waiting)-1]].depth > x.depth {
			x.children = append(x.children, waiting[len(waiting)-1])
			waiting = waiting[:len(waiting)-1]
		}
		waiting = append(waiting, len(all))
		all = append(all, x)
	}
	var lay func(at, parent int)
	lay = func(at, parent int) {
		x := all[at].Import
		x.Parent = parent
		out = append(out, x)
		self := len(out) - 1
		for _, c := range slices.Backward(all[at].children) {
			lay(c, self)
		}
	}
	for _, at := range waiting {
		lay(at, -1)
	}
	return out, rest
}

var goInit = regexp.MustCompile(`^init (\S+) @([\d.]+) ms, ([\d.]+) ms clock, `)

// GoInits reads what Go writes with GODEBUG=inittrace=1: a line for each package with work in its init.
func GoInits(lines []string) (out []Import, rest []string) {
	for _, line := range lines {
		m := goInit.FindStringSubmatch(line)
		if m == nil {
			rest = append(rest, line)
			continue
		}
		ms, _ := strconv.ParseFloat(m[3], 64)
		took := time.Duration(ms * float64(time.Millisecond))
		out = append(out, Import{Name: m[1], Parent: -1, Total: took, Own: took, N: 1})
	}
	return out, rest
}

// NodeModules reads what the hook for Node writes: a line of JSON for each module, with the one that loads it.
func NodeModules(content string) (out []Import) {
	type line struct {
		Name, Parent string
		Total, Own   float64 // ms
	}
	at := map[string]int{}
	var parents []string
	in := bufio.NewScanner(strings.NewReader(content))
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		var x line
		if json.Unmarshal(in.Bytes(), &x) != nil || x.Name == "" {
			continue // it was cut off
		}
		if _, ok := at[x.Name]; ok {
			continue
		}
		at[x.Name] = len(out)
		parents = append(parents, x.Parent)
		ms := func(f float64) time.Duration { return time.Duration(f * float64(time.Millisecond)) }
		out = append(out, Import{Name: x.Name, Parent: -1, Own: ms(x.Own), Total: ms(x.Total), N: 1})
	}
	for i := range out {
		if p, ok := at[parents[i]]; ok && p != i {
			out[i].Parent = p
		}
	}
	return totals(out)
}

// totals fills in the whole time of modules for which only their own is known, and breaks circles.
func totals(all []Import) []Import {
	for i := range all { // who is loaded by itself, by way of others, has no parent
		seen := map[int]bool{i: true}
		for p := all[i].Parent; p >= 0; p = all[p].Parent {
			if seen[p] {
				all[i].Parent = -1
				break
			}
			seen[p] = true
		}
	}
	sums := make([]time.Duration, len(all))
	var sum func(i int) time.Duration
	children := make([][]int, len(all))
	for i := range all {
		if p := all[i].Parent; p >= 0 {
			children[p] = append(children[p], i)
		}
	}
	sum = func(i int) time.Duration {
		if sums[i] == 0 {
			sums[i] = all[i].Own
			for _, c := range children[i] {
				sums[i] += sum(c)
			}
		}
		return sums[i]
	}
	for i := range all {
		all[i].Total = max(all[i].Total, sum(i))
	}
	return all
}

// mostLoad is the longest that the loading of a class is taken to last.
const mostLoad = time.Millisecond

var javaLoad = regexp.MustCompile(`^\[(\d+)ns\].*?\s(\S+) source: (\S+)`)

// JavaClasses reads what Java writes with -Xlog:class+load and its uptime in nanoseconds: the packages that were
// loaded, and the time until the next class was, of which each has mostLoad at most: what takes longer is not the
// loading.
func JavaClasses(content string, end time.Duration) (out []Import) {
	type load struct {
		at   time.Duration
		pack string
	}
	var all []load
	for line := range strings.Lines(content) {
		m := javaLoad.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		ns, _ := strconv.ParseInt(m[1], 10, 64)
		name, _, _ := strings.Cut(m[2], "/0x") // a hidden class
		pack := name
		if dot := strings.LastIndexByte(name, '.'); dot >= 0 {
			pack = name[:dot]
		}
		all = append(all, load{time.Duration(ns), pack})
	}
	at := map[string]int{}
	for i, l := range all {
		next := end
		if i+1 < len(all) {
			next = all[i+1].at
		}
		k, ok := at[l.pack]
		if !ok {
			k = len(out)
			at[l.pack] = k
			out = append(out, Import{Name: l.pack, Parent: -1})
		}
		took := min(max(next-l.at, 0), mostLoad)
		out[k].Own += took
		out[k].Total += took
		out[k].N++
	}
	return out
}

// Largest returns the imports that cost most, with what they load themselves: those of which no other one that is
// returned is a part, at most n.
func Largest(all []Import, n int) (out []int) {
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(all[b].Total, all[a].Total) })
	for _, i := range order {
		within := false
		for p := all[i].Parent; p >= 0 && !within; p = all[p].Parent {
			within = slices.Contains(out, p)
		}
		if !within && len(out) < n {
			out = append(out, i)
		}
	}
	return out
}
