package cli

import (
	"encoding/json"
	"fmt"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/store"
)

// names lists what a word of a command line may be.
type names func(cmd *cobra.Command, dir string) []string

// projectNames returns a list of names of the project.
func projectNames(of func(l *project.Loaded) []string) names {
	return func(cmd *cobra.Command, dir string) []string {
		l, err := project.Load(cmd.Context(), dir)
		if err != nil {
			return nil // a shell has no place for it; the command says it
		}
		return of(l)
	}
}

// each returns the names of things that are wanted; nil of all.
func each[T any](all []T, name func(*T) string, wanted func(*T) bool) (out []string) {
	for i := range all {
		if wanted == nil || wanted(&all[i]) {
			out = append(out, name(&all[i]))
		}
	}
	return out
}

func sourceName(s *plan.Source) string { return s.Name }

func functionName(f *plan.Function) string { return f.Name }

// the names of a project
var (
	drills = projectNames(func(l *project.Loaded) []string {
		return each(l.Drills, func(d *plan.Drill) string { return d.Name }, nil)
	})
	sets = projectNames(func(l *project.Loaded) []string {
		return each(l.Sets, func(s *payload.Set) string { return s.Name }, nil)
	})
	brokers = projectNames(func(l *project.Loaded) []string {
		return each(l.Brokers, func(b *plan.Broker) string { return b.Name }, nil)
	})
	sources   = projectNames(func(l *project.Loaded) []string { return each(l.Sources, sourceName, nil) })
	published = projectNames(func(l *project.Loaded) []string {
		return each(l.Sources, sourceName, func(s *plan.Source) bool { return s.Kind.Published() })
	})
	functions = projectNames(func(l *project.Loaded) (out []string) {
		for i := range l.Functions {
			out = append(append(out, l.Functions[i].Name), each(l.Functions[i].Variants, functionName, nil)...)
		}
		return out
	})
	payloads = projectNames(payloadNames)
)

// mostPayloads bounds the payloads of a set that are offered.
const mostPayloads = 200

func payloadNames(l *project.Loaded) (out []string) {
	for i := range l.Sets {
		for n := range min(len(l.Sets[i].Payloads), mostPayloads) {
			out = append(out, fmt.Sprintf("%s#%d\t%s", l.Sets[i].Name, n+1, oneLine(l.Sets[i].Payloads[n].Label())))
		}
	}
	return out
}

// runsOf returns the runs of a project, the newest first; none where they cannot be read.
func runsOf(dir string) []store.Info {
	s, err := store.Open(dir)
	if err != nil {
		return nil
	}
	defer s.Close()
	all, _ := s.List() // a shell has no place for the error; the command says it
	return all
}

// runNames returns the runs of a project by their names where they have any.
func runNames(_ *cobra.Command, dir string) []string { return namesOf(runsOf(dir)) }

func namesOf(all []store.Info) []string {
	out := []string{"last"}
	for _, i := range all {
		if i.Name != "" {
			out = append(out, i.Name)
		}
		out = append(out, i.ID+"\t"+i.Drill)
	}
	return out
}

// baselines returns what --baseline takes: runs, and the newest of each branch.
func baselines(_ *cobra.Command, dir string) []string {
	all := runsOf(dir)
	out := namesOf(all)
	for _, i := range all {
		if name := i.Branch + "@latest"; i.Branch != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// matching returns the completions of a word that is begun.
func matching(cmd *cobra.Command, dir, begun string, lists ...names) (out []cobra.Completion,
	how cobra.ShellCompDirective) {
	for _, list := range lists {
		for _, name := range list(cmd, dir) {
			if strings.HasPrefix(name, begun) {
				out = append(out, name)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// complete has a shell complete the words of a command: the n-th by the n-th lists, and where more is set, all after
// that by the last ones.
func complete(c *cobra.Command, dir *string, more bool, words ...[]names) {
	c.ValidArgsFunction = func(cmd *cobra.Command, args []string, begun string) ([]cobra.Completion,
		cobra.ShellCompDirective) {
		at := len(args)
		if more {
			at = min(at, len(words)-1)
		}
		if at >= len(words) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return matching(cmd, *dir, begun, words[at]...)
	}
}

// completions sets what shells complete.
func completions(root *cobra.Command, dir *string) {
	of := func(path ...string) *cobra.Command {
		c, _, err := root.Find(path)
		if err != nil {
			panic(err) // the commands are all there
		}
		return c
	}
	complete(of("run"), dir, false, []names{drills})
	complete(of("forecast"), dir, true, []names{drills, runNames})
	complete(of("fire"), dir, false, []names{sources}, []names{payloads})
	complete(of("publish"), dir, false, []names{published})
	complete(of("anatomy"), dir, false, []names{functions})
	complete(of("compare"), dir, false, []names{functions, runNames, drills}, []names{runNames})
	for _, name := range []string{"show", "export", "replay", "name", "note", "pin", "logs"} {
		complete(of("runs", name), dir, false, []names{runNames})
	}
	complete(of("runs", "delete"), dir, true, []names{runNames})
	complete(of("runs", "push"), dir, true, []names{runNames})
	complete(of("runs", "trend"), dir, false, []names{drills})
	for _, name := range []string{"show", "validate", "infer"} {
		complete(of("payloads", name), dir, false, []names{sets})
	}
	complete(of("words"), dir, false, []names{func(*cobra.Command, string) []string { return wordNames() }})
	flag := func(c *cobra.Command, name string, list names) {
		if err := c.RegisterFlagCompletionFunc(name, func(cmd *cobra.Command, _ []string, begun string) (
			[]cobra.Completion, cobra.ShellCompDirective) {
			return matching(cmd, *dir, begun, list)
		}); err != nil {
			panic(err) // the flags are all there
		}
	}
	flag(of("record"), "from", brokers)
	flag(of("forecast"), "traffic", drills)
	flag(of("forecast"), "break-even", functions)
	flag(of("run"), "baseline", baselines)
	flag(of("runs", "push"), "drill", drills)
	flag(of("runs", "pull"), "drill", drills)
	flag(of("publish"), "dead-letters", published)
}

// versionCommand prints what the program was built from.
func versionCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "version",
		Short: "Print the version of the program, and what it was built from",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			v := versionInfo{Version: version(), Go: runtime.Version(), OS: runtime.GOOS, Arch: runtime.GOARCH}
			if info, ok := debug.ReadBuildInfo(); ok {
				for _, s := range info.Settings {
					switch s.Key {
					case "vcs.revision":
						v.Commit = s.Value
					case "vcs.time":
						v.Time = s.Value
					case "vcs.modified":
						v.Modified = s.Value == "true"
					}
				}
			}
			if !asJSON {
				fmt.Fprintf(cmd.OutOrStdout(), "nightdrill %s\n%s, %s/%s\n", v.Version, v.Go, v.OS, v.Arch)
				return nil
			}
			content, _ := json.MarshalIndent(v, "", "  ") // text always marshals
			fmt.Fprintln(cmd.OutOrStdout(), string(content))
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

// versionInfo is the version as JSON.
type versionInfo struct {
	Version  string `json:"version"`
	Commit   string `json:"commit"` // "" where it is not known
	Time     string `json:"time"`   // of the commit
	Modified bool   `json:"modified"`
	Go       string `json:"go"`
	OS       string `json:"os"`
	Arch     string `json:"arch"`
}
