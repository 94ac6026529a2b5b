package session

import (
	"fmt"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/session/catalog"
)

// Variants returns the names of a function and of its variants.
func (d *Workspace) Variants(function string) []string {
	fn := d.FunctionNamed(function)
	if fn < 0 {
		return nil
	}
	out := []string{function}
	for _, v := range d.Functions[fn].Variants {
		out = append(out, v.Name)
	}
	return out
}

// VariantDrill returns a drill that starts each of some variants of a function `cold` times, and
// sends it `warm` warm events, in turns. The variants are named with or without their function;
// none means all. The events are those of a set and a source; where these are not named, of the
// first that reach the function.
// With early, the cold starts end where the verdict on them is clear.
func (d *Workspace) VariantDrill(function string, variants []string, cold, warm int, early bool, source, set string,
) (*plan.Drill, error) {
	known := d.Variants(function)
	if known == nil {
		return nil, fmt.Errorf("unknown function %q; available: %s", function,
			strings.Join(names(d.Functions, func(f plan.Function) string { return f.Name }), ", "))
	}
	var of []string
	for _, v := range variants {
		name := v
		if v != function && !strings.HasPrefix(v, function+"@") {
			name = function + "@" + v
		}
		if v == "" || v == "." {
			name = function
		}
		if !slices.Contains(known, name) {
			return nil, fmt.Errorf("%s has no variant %q; available: %s", function, v, strings.Join(known, ", "))
		}
		if !slices.Contains(of, name) {
			of = append(of, name)
		}
	}
	if of == nil {
		of = known
	}
	if len(of) < 2 {
		if len(known) == 1 {
			return nil, fmt.Errorf("%s has no variants to compare; add one under functions.%s.variants, such as "+
				"small: {memory: 128MiB}", function, function)
		}
		return nil, fmt.Errorf("one variant cannot be compared with itself; available: %s", strings.Join(known, ", "))
	}
	for _, name := range of {
		if f := d.Whole.Functions[d.Whole.FunctionNamed(name)]; f.Transport == plan.Attach {
			return nil, fmt.Errorf("%s is started elsewhere (transport: attach), so it cannot be started cold", name)
		}
	}
	feed, err := d.feedFor(function, source, set)
	if err != nil {
		return nil, err
	}
	drill := &plan.Drill{Name: "compare " + function, Seed: 1, Settle: 10e9, Feeds: []plan.Feed{feed},
		Concurrency: d.Concurrency,
		Cold:        &plan.ColdStarts{N: cold, Warm: warm, Cached: true, Early: early, Of: of}}
	for i := range d.Functions {
		drill.Limits = append(drill.Limits, d.Functions[i].Limits)
	}
	return drill, nil
}

func names[T any](all []T, of func(T) string) (out []string) {
	for _, x := range all {
		out = append(out, of(x))
	}
	return out
}

// feedFor finds a source and a set whose payloads reach a function.
func (d *Workspace) feedFor(function, source, set string) (plan.Feed, error) {
	fn := d.FunctionNamed(function)
	reaches := func(src, k int) bool {
		for n := range d.Sets[k].Payloads {
			takes := d.Routes(src, catalog.AsObject(&d.Sources[src], &d.Sets[k].Payloads[n]))
			for w := range d.Sources[src].Wires {
				if takes&(1<<w) != 0 && d.Sources[src].Wires[w].To == fn {
					return true
				}
			}
		}
		return false
	}
	fits := func(f plan.Feed) bool {
		return f.Set >= 0 && (source == "" || d.Sources[f.Source].Name == source) &&
			(set == "" || d.Sets[f.Set].Name == set) && reaches(f.Source, f.Set)
	}
	for i := range d.Drills { // what drills feed it with comes first
		for _, f := range d.Drills[i].Feeds {
			if fits(f) {
				return plan.Feed{Source: f.Source, Set: f.Set}, nil
			}
		}
	}
	for src := range d.Sources {
		for k := range d.Sets {
			if f := (plan.Feed{Source: src, Set: k}); d.Sources[src].Kind != plan.Schedule && fits(f) {
				return f, nil
			}
		}
	}
	what := "no payload of any set"
	if set != "" {
		what = "no payload of the set " + set
	}
	if source != "" {
		what += " at the source " + source
	}
	return plan.Feed{}, fmt.Errorf("%s reaches %s; name others with --payloads and --source, or see nightdrill check",
		what, function)
}
