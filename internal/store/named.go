package store

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// BranchOf divides the name of a run by its branch and commit, such as main@latest or main@4f2a91c. ok is false of
// other names.
func BranchOf(name string) (branch, commit string, ok bool) {
	at := strings.LastIndexByte(name, '@')
	if at <= 0 || at == len(name)-1 {
		return "", "", false
	}
	return name[:at], name[at+1:], true
}

// Same reports whether two runs of one ID are the same run: two machines may give one ID in the same second. Shared
// stores keep times by the microsecond.
func (i *Info) Same(other *Info) bool {
	return i.Machine == other.Machine && i.Began.Sub(other.Began).Abs() < 2*time.Microsecond
}

// OnBranch returns the newest finished run of a drill on a branch and a machine, of the latest commit or of one that
// begins as is said. all are the runs, the newest first.
func OnBranch(all []Info, drill, branch, commit, machine string) (Info, error) {
	var elsewhere []string
	for _, i := range all {
		if i.Drill != drill || i.Branch != branch || !i.Finished || commit != "latest" &&
			!strings.HasPrefix(i.Commit, commit) {
			continue
		}
		if i.Machine == machine {
			return i, nil
		}
		if !slices.Contains(elsewhere, i.Machine) {
			elsewhere = append(elsewhere, i.Machine)
		}
	}
	of := "branch " + branch
	if commit != "latest" {
		of = "commit " + commit + " of " + of
	}
	if elsewhere != nil {
		return Info{}, fmt.Errorf("%s has runs of drill %s from other machines alone (%s), with which there is no "+
			"verdict; run the drill there on this machine, or compare side by side with nightdrill compare", of, drill,
			strings.Join(elsewhere, "; "))
	}
	return Info{}, fmt.Errorf("%s has no finished run of drill %s; nightdrill runs list prints those there are", of,
		drill)
}
