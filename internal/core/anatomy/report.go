package anatomy

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/text"
)

// Format is the format of a report's JSON.
const Format = "nightdrill.anatomy/1"

// Report is what was found out about the start of a function.
type Report struct {
	Function, Version string
	Untraced          []time.Duration // from exec to ready, of starts beside which nothing was looked at
	Clock             *Account        // of a start of its own; nil where it could not be taken
	Tasks             []Task          // of that start
	ClockTook         time.Duration
	Language          string // of the tree; "" for none
	Imports           []Import
	TreeTook          time.Duration
	ImportedBy        map[string]string // the place in the user's code that imports a module, where it was found
	Names             *Names            // nil where they could not be taken
	NamesTook         time.Duration
	Unavailable       []string // what could not be seen, and why
}

// Names are what a start opened, connected to and ran.
type Names struct {
	Opened, Failed int
	Directories    []Count // in which files were looked for in vain, the most first
	Addresses      []Connection
	Commands       []string
	Libraries      []string
}

// Count is how often something occurred.
type Count struct {
	Name string `json:"name"`
	N    int    `json:"count"`
}

// Connection is an address that a start connected to.
type Connection struct {
	Address string
	N       int
}

// Median returns the median of the untraced starts; 0 for none.
func (r *Report) Median() time.Duration {
	all := slices.Sorted(slices.Values(r.Untraced))
	switch n := len(all); {
	case n == 0:
		return 0
	case n%2 == 0:
		return (all[n/2-1] + all[n/2]) / 2
	default:
		return all[n/2]
	}
}

// slowest is how much longer than an untraced start a traced one may take for its times to be shown.
const slowest = 1.3

// Trusts reports whether the times of a traced start are shown: it took no more than 1.3 times as long as the
// untraced ones.
func (r *Report) Trusts(took time.Duration) bool {
	return took > 0 && float64(took) <= slowest*float64(r.Median())
}

// addresses returns the addresses that the start waited for or connected to.
func (r *Report) addresses() (out []address) {
	at := func(name string) *address {
		for i := range out {
			if out[i].Address == name {
				return &out[i]
			}
		}
		out = append(out, address{Address: name})
		return &out[len(out)-1]
	}
	if r.Clock != nil && r.Trusts(r.ClockTook) {
		for _, p := range r.Clock.Parts {
			if p.Class == Network && p.On != "" {
				x := at(p.On)
				x.Ms, x.Count = x.Ms+ms(p.Took), max(x.Count, 1)
			}
		}
	}
	if r.Names != nil {
		for _, c := range r.Names.Addresses {
			at(c.Address).Count = c.N
		}
	}
	slices.SortStableFunc(out, func(a, b address) int { return cmp.Compare(b.Ms, a.Ms) })
	return out
}

type address struct {
	Address string  `json:"address"`
	Ms      float64 `json:"ms"`
	Count   int     `json:"count"`
}

func ms(d time.Duration) float64 {
	return float64(d.Round(time.Microsecond)) / float64(time.Millisecond)
}

// MarshalJSON implements json.Marshaler.
func (r *Report) MarshalJSON() ([]byte, error) {
	type imported struct {
		Name   string  `json:"name"`
		Total  float64 `json:"total_ms"`
		Own    float64 `json:"own_ms"`
		Parent string  `json:"parent"`
	}
	type files struct {
		Opened      int     `json:"opened"`
		Failed      int     `json:"failed"`
		Directories []Count `json:"directories"`
	}
	out := struct {
		Format   string `json:"format"`
		Function string `json:"function"`
		Version  string `json:"version"`
		Untraced struct {
			Median float64   `json:"median"`
			Each   []float64 `json:"each"`
		} `json:"untraced_ms"`
		Shares      map[string]float64 `json:"shares_ms"`
		Parts       []part             `json:"parts"`
		Imports     []imported         `json:"imports"`
		Addresses   []address          `json:"addresses"`
		Files       files              `json:"files"`
		Commands    []string           `json:"commands"`
		Libraries   []string           `json:"libraries"`
		Unavailable []string           `json:"unavailable"`
		Sentences   []string           `json:"sentences"`
	}{Format: Format, Function: r.Function, Version: r.Version, Shares: map[string]float64{}, Parts: []part{},
		Imports: []imported{}, Addresses: append([]address{}, r.addresses()...), Files: files{Directories: []Count{}},
		Commands: []string{}, Libraries: []string{}, Unavailable: append([]string{}, r.Unavailable...),
		Sentences: append([]string{}, r.Sentences()...)}
	out.Untraced.Median, out.Untraced.Each = ms(r.Median()), []float64{}
	for _, d := range r.Untraced {
		out.Untraced.Each = append(out.Untraced.Each, ms(d))
	}
	if r.Clock != nil && r.Trusts(r.ClockTook) {
		for c, d := range r.Clock.Shares {
			out.Shares[Keys[c]] = ms(d)
		}
		out.Shares["total_ms"] = ms(r.Clock.Total)
		for _, p := range r.Clock.Parts {
			out.Parts = append(out.Parts, part{Keys[p.Class], p.On, ms(p.Took), p.N})
		}
	}
	for i := range r.Imports {
		x := imported{Name: r.Imports[i].Name}
		if r.Trusts(r.TreeTook) {
			x.Total, x.Own = ms(r.Imports[i].Total), ms(r.Imports[i].Own)
		}
		if p := r.Imports[i].Parent; p >= 0 {
			x.Parent = r.Imports[p].Name
		}
		out.Imports = append(out.Imports, x)
	}
	if n := r.Names; n != nil {
		out.Files = files{n.Opened, n.Failed, append([]Count{}, n.Directories...)}
		out.Commands, out.Libraries = append(out.Commands, n.Commands...), append(out.Libraries, n.Libraries...)
	}
	return json.Marshal(out)
}

type part struct {
	Class string  `json:"class"`
	On    string  `json:"on"`
	Ms    float64 `json:"ms"`
	N     int     `json:"count"`
}

// manyCommands is how many programs a start runs for that to be worth a sentence.
const manyCommands = 8

// worth reports whether a part of a start is worth a sentence.
func worth(took, total time.Duration) bool {
	return took >= 5*time.Millisecond && took*20 >= total
}

// Sentences returns what was found in sentences, what cost most first, each with what one could do, where that is
// known.
func (r *Report) Sentences() (out []string) {
	type said struct {
		took time.Duration
		text string
	}
	var all []said
	say := func(took time.Duration, format string, args ...any) {
		all = append(all, said{took, fmt.Sprintf(format, args...)})
	}
	median := r.Median()
	if a := r.Clock; a != nil && r.Trusts(r.ClockTook) {
		if waiting := a.Shares[Waiting]; worth(waiting, a.Total) {
			say(waiting, "Of %s, %s was waiting for a processor: the machine was busy, not the function.",
				text.Measured(a.Total), text.Measured(waiting))
		}
		network, sleeping := map[string]time.Duration{}, time.Duration(0)
		for _, p := range a.Parts {
			switch {
			case !worth(p.Took, a.Total) || p.Class == Waiting:
			case p.Class == Network:
				network[p.On] += p.Took
			case p.Class == Sleeping && !r.child(p.On):
				sleeping += p.Took
			case p.Class == Sleeping:
				say(p.Took, "%s sleeps %s, and the start waits for it.", p.On, text.Measured(p.Took))
			case p.Class == Disk && p.On != "":
				say(p.Took, "%s waited for the disk, at %s.", text.Measured(p.Took), p.On)
			case p.Class == Disk:
				say(p.Took, "%s waited for the disk: files that were read lately are in memory and need no such wait.",
					text.Measured(p.Took))
			case p.Class == Running && r.child(p.On):
				say(p.Took, "%s ran %s as a child, and the start waits for it.", p.On, text.Measured(p.Took))
			case p.Class == Unseen:
				say(p.Took, "What %s was spent on is not seen.", text.Measured(p.Took))
			}
		}
		if sleeping > 0 {
			say(sleeping, "It sleeps %s before it is ready.", text.Measured(sleeping))
		}
		for on, took := range network {
			if on == "" {
				on = "a connection"
			}
			say(
				took,
				"%s waited for %s. Connecting with the first event that needs it would keep that out of the start.",
				text.Measured(took),
				on,
			)
		}
	}
	if r.Trusts(r.TreeTook) {
		for _, i := range Largest(r.Imports, 3) {
			x := &r.Imports[i]
			if !worth(x.Total, median) {
				continue
			}
			by := ""
			if place := r.ImportedBy[x.Name]; place != "" {
				by = "; it is imported by " + place
			}
			say(x.Total, "%s: %s of imports, %.0f %% of the start%s.", x.Name, text.Measured(x.Total),
				100*float64(x.Total)/float64(median), by)
		}
	}
	slices.SortStableFunc(
		all,
		func(a, b said) int { return cmp.Or(cmp.Compare(b.took, a.took), strings.Compare(a.text, b.text)) },
	)
	for _, s := range all {
		out = append(out, s.text)
	}
	if n := r.Names; n != nil && len(n.Commands) >= manyCommands {
		count := map[string]int{}
		for _, c := range n.Commands {
			name, _, _ := strings.Cut(c, " ")
			count[name]++
		}
		names := slices.SortedFunc(maps.Keys(count), func(a, b string) int {
			return cmp.Or(cmp.Compare(count[b], count[a]), strings.Compare(a, b))
		})
		out = append(out, fmt.Sprintf("It runs %d programs before it is ready, most often %s (%d times).",
			len(n.Commands), names[0], count[names[0]]))
	}
	const many = 1000
	if n := r.Names; n != nil && n.Failed >= many {
		out = append(out, fmt.Sprintf("%d failed look-ups of files, most of them in %s.", n.Failed,
			n.Directories[0].Name))
	}
	if len(out) == 0 && r.Clock != nil && r.Trusts(r.ClockTook) {
		out = append(out, fmt.Sprintf("Nothing stands out: %s of %s ran on a processor.",
			text.Measured(r.Clock.Shares[Running]), text.Measured(r.Clock.Total)))
	}
	return out
}

// child reports whether a name is that of a child's command, and not of a thread.
func (r *Report) child(name string) bool {
	return slices.ContainsFunc(r.Tasks, func(t Task) bool { return t.Parent != 0 && t.Command == name && name != "" })
}
