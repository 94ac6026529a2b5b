package kept

import (
	"nightdrill.dev/internal/core/trend"
	"nightdrill.dev/internal/store"
)

// Trend computes the trends of a drill from the list of runs, the newest first: of this machine where it has any run of
// the drill, otherwise of that of the newest. branch "" stands for all branches.
func Trend(all []store.Info, drill, branch string) *trend.Trends {
	machine, found := Machine(), false
	var runs []trend.Run
	newest := ""
	for _, i := range all {
		if i.Drill != drill || !i.Finished || branch != "" && i.Branch != branch {
			continue
		}
		found = found || i.Machine == machine
		if runs == nil {
			newest = i.Machine
		}
		runs = append(runs, trend.Run{ID: i.ID, Commit: i.Commit, Branch: i.Branch, Machine: i.Machine,
			Began: i.Began.Local(),
			Main:  i.Headline})
	}
	if !found && newest != "" {
		machine = newest
	}
	return trend.Of(drill, branch, machine, runs)
}
