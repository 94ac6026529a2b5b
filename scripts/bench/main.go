// Bench runs the benchmarks that have a bar and prints one table: the figure, its bar, this run, the last recorded
// run on
// a machine like this one, and the ratio of the two. With -record the figures are kept in bench/figures.json, so that a
// change is seen in review.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/session/kept"
)

// bar is a figure that has to be at most, or at least, so large.
type bar struct {
	what, bench, metric string // the benchmark with its parts, as Go prints it, without the number of processors
	least               bool   // it has to be at least the bar
	bar                 float64
	times               float64 // what the metric is multiplied by, to be in unit
	unit                string
}

// group is benchmarks of a package that run with the same flags.
type group struct {
	folder, pattern, benchtime string
	bars                       []bar
}

var groups = []group{
	{"internal/session", "FlatOut$", "1x", []bar{
		{"flat out with 8 callers, of bare connections", "FlatOut", "of-bare-connections", true, 0.95, 1, "×"},
		{"flat out with 8 callers, of net/http's client", "FlatOut", "of-net/http-client", true, 1.4, 1, "×"}}},
	{"internal/session", "FlatOutServed$", "1x", []bar{
		{"the same served by Python, of bare connections", "FlatOutServed/python3", "of-bare-connections", true, 0.95,
			1, "×"},
		{"the same served by Node, of bare connections", "FlatOutServed/node", "of-bare-connections", true, 0.95, 1,
			"×"}}},
	{"internal/session", "Lag$", "1x", []bar{
		{"taken − due at 1,000/s, p50", "Lag/1000", "taken-p50-ms", false, 0.15, 1, "ms"},
		{"taken − due at 1,000/s, p99", "Lag/1000", "taken-p99-ms", false, 0.2, 1, "ms"},
		{"taken − due at 5,000/s, p99", "Lag/5000", "taken-p99-ms", false, 1, 1, "ms"}}},
	{"internal/session", "OpenLarge$", "3x", []bar{
		{"a run of a million opens in Findings", "OpenLarge/findings", "ns/op", false, 1000, 1e-6, "ms"},
		{"a filter over it", "OpenLarge/filter", "ns/op", false, 2000, 1e-6, "ms"},
		{"the same as it is read, a hundredth taken", "OpenLarge/filter_as_it_is_read,_a_hundredth", "ns/op", false,
			2000, 1e-6, "ms"},
		{"what that holds in memory at most", "OpenLarge/filter_as_it_is_read,_a_hundredth", "MiB-at-most", false, 100,
			1, "MiB"}}},
	{"internal/session", "Change$", "40x", []bar{
		{"a saved file to the new version's reply, p50", "Change", "ms-p50", false, 300, 1, "ms"}}},
	{"internal/session/ingest", "CopyingToAFile", "1x", []bar{
		{"copying from Redis to a file, of a bare loop", "CopyingToAFile", "of-bare", true, 0.5, 1, "×"}}},
	{"internal/live/runner", "AddInstance|Sample", "40x", []bar{
		{"adding an instance, more than by hand", "AddInstance/bounded=false", "ms-more", false, 1, 1, "ms"}}},
	{"internal/live/upstream", "Call", "1s", nil},
	{"internal/store", "Append", "1s", []bar{
		{"an invocation recorded, with all that belongs to it", "Append", "ns/event", false, 500, 1, "ns"}}},
	{"internal/core/measure", "Summarize", "10x", []bar{
		{"the summary of a million invocations", "Summarize", "ns/op", false, 150, 1e-6, "ms"}}},
	{"internal/core/engine", "Inputs|AllKinds|Instances", "1s", []bar{
		{"engine inputs, 1,000 instances", "Instances", "of-10-instances", false, 2, 1, "×"}}},
	{"internal/core/sim", "Run", "1s", []bar{
		{"events simulated a second of a core, without records", "Run", "events/s", true, 1e6, 1, "/s"}}},
	{"internal/core/generate", "Make", "1s", []bar{
		{"making a payload, of marshalling it", "Make", "times-marshal", false, 2, 1, "×"}}},
	{"internal/core/payload", "Scan", "1s", []bar{
		{"reading JSON lines, of a bare scan", "Scan", "lines-of-scan-speed", true, 0.5, 1, "×"},
		{"reading HAR, of a bare scan", "Scan", "har-of-scan-speed", true, 0.5, 1, "×"}}},
	{"internal/core/trend", "ChangePoints", "1s", nil},
	{"internal/tui", "KeyToReply", "100x", []bar{
		{"a warm firing, from key to drawn reply, added p50", "KeyToReply", "added-ms-p50", false, 10, 1, "ms"}}},
	{"internal/tui/findings", "View", "1s", []bar{
		{"a frame of the Findings view", "View", "ns/op", false, 16, 1e-6, "ms"}}},
	{"internal/tui/drillview", "View", "1s", []bar{
		{"a frame of the Drill view, a million invocations", "View/1000000_invocations", "ns/op", false, 5, 1e-6,
			"ms"}}},
}

// recorded are the figures of one run of the benchmarks.
type recorded struct {
	Date    string             `json:"date"`
	Commit  string             `json:"commit"`
	Figures map[string]float64 `json:"figures"` // by the words of the bar, in its unit
}

const file = "bench/figures.json"

func main() {
	record := flag.Bool("record", false, "keep the figures in "+file)
	flag.Parse()
	if err := run(*record); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(record bool) error {
	all := map[string][]recorded{} // by machine
	content, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(content, &all)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", file, err)
	}
	machine := machineLike(kept.Machine())
	var last recorded
	if n := len(all[machine]); n > 0 {
		last = all[machine][n-1]
	}
	now := recorded{Date: time.Now().UTC().Format(time.DateOnly), Commit: kept.Commit("."),
		Figures: map[string]float64{}}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "figure\tbar\tthis run\t\tlast recorded\tratio\t\n")
	missed, bars := 0, 0
	for _, g := range groups {
		fmt.Fprintf(os.Stderr, "%s %s …\n", g.folder, g.pattern)
		got, err := bench(g)
		if err != nil {
			return err
		}
		for _, b := range g.bars {
			bars++
			v, ok := got[b.bench+" "+b.metric]
			if !ok {
				fmt.Fprintf(t, "%s\t%s\t–\tnot measured\t\t\t\n", b.what, written(b.bar, b.unit))
				missed++
				continue
			}
			v *= b.times
			now.Figures[b.what] = v
			sign, mark := "≤", "met"
			if b.least {
				sign = "≥"
			}
			if b.least != (v >= b.bar) && v != b.bar {
				mark, missed = "missed", missed+1
			}
			before, ratio := "–", "–"
			if was, ok := last.Figures[b.what]; ok && was > 0 {
				before, ratio = written(was, b.unit), figure.Ratio(v/was)
			}
			fmt.Fprintf(t, "%s\t%s %s\t%s\t%s\t%s\t%s\t\n", b.what, sign, written(b.bar, b.unit), written(v, b.unit),
				mark,
				before, ratio)
		}
	}
	now.Figures[fixed] = fixedWork()
	before, ratio := "–", "–"
	if was := last.Figures[fixed]; was > 0 {
		before, ratio = written(was, "ms"), figure.Ratio(now.Figures[fixed]/was)
	}
	fmt.Fprintf(t, "%s\t\t%s\t\t%s\t%s\t\n", fixed, written(now.Figures[fixed], "ms"), before, ratio)
	if err := t.Flush(); err != nil {
		return err
	}
	fmt.Printf("\n%d of %d bars missed, on %s\n", missed, bars, machine)
	if last.Date != "" {
		fmt.Printf("last recorded: %s, commit %s\n", last.Date, last.Commit)
	}
	if !record {
		return nil
	}
	const most = 20
	of := append(all[machine], now)
	all[machine] = of[max(len(of)-most, 0):]
	if content, err = json.MarshalIndent(all, "", "  "); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, append(content, '\n'), 0o644)
}

// fixed is work that no change of the program makes quicker or slower: where it takes longer than it did, so does the
// rest.
const fixed = "for comparison: a million numbers sorted"

// fixedWork returns what it takes in milliseconds, the median of nine times.
func fixedWork() float64 {
	var took []time.Duration
	for range 9 {
		r := rand.New(rand.NewPCG(1, 2))
		numbers := make([]float64, 1_000_000)
		for i := range numbers {
			numbers[i] = r.Float64()
		}
		began := time.Now()
		slices.Sort(numbers)
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return figure.Milliseconds(took[len(took)/2])
}

// machineLike returns a description of a machine without what changes with each of its updates.
func machineLike(text string) string {
	return regexp.MustCompile(`(, \w+) [0-9][^,]*$`).ReplaceAllString(text, "$1")
}

func written(v float64, unit string) string {
	if unit == "/s" || v >= 1e5 {
		return figure.Count(v) + unit
	}
	return figure.Ratio(v) + " " + unit
}

// bench runs the benchmarks of a group, and returns their metrics by name and unit.
func bench(g group) (map[string]float64, error) {
	c := exec.Command("go", "test", "-run", "^$", "-bench", g.pattern, "-benchtime", g.benchtime, "./"+g.folder)
	c.Stderr = os.Stderr
	content, err := c.Output()
	if err != nil {
		return nil, fmt.Errorf("%s: %w\n%s", g.folder, err, content)
	}
	return metrics(string(content)), nil
}

var processors = regexp.MustCompile(`-\d+$`)

// metrics reads what go test -bench prints (https://go.dev/design/14313-benchmark-format).
func metrics(text string) map[string]float64 {
	out := map[string]float64{}
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) < 4 || !strings.HasPrefix(fields[0], "Benchmark") {
			continue
		}
		name := processors.ReplaceAllString(strings.TrimPrefix(fields[0], "Benchmark"), "")
		for pair := range slices.Chunk(fields[2:], 2) {
			if v, err := strconv.ParseFloat(pair[0], 64); err == nil && len(pair) == 2 {
				out[name+" "+pair[1]] = v
			}
		}
	}
	return out
}
