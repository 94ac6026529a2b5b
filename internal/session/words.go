package session

import (
	"fmt"
	"strings"

	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/text"
)

// SourceWords describes in a line what a source is and by which rules it delivers.
func SourceWords(p *plan.Project, s *plan.Source) string {
	out := s.Kind.String()
	switch s.Kind {
	case plan.HTTP:
		if s.Wait == 0 {
			out += ", rejected at once when no instance is free"
		} else {
			out += fmt.Sprintf(", rejected after waiting %v for an instance", text.Duration(s.Wait))
		}
		if s.Token != "" {
			out += ", with a bearer token"
		}
		if s.CORS != nil {
			out += ", open to pages of " + strings.Join(s.CORS.Origins, ", ")
		}
		return out
	case plan.Storage:
		out += ", bucket " + s.Bucket
		if s.Folder != "" {
			out += ", the files of a folder"
		}
		if s.Poll > 0 {
			out += fmt.Sprintf(", found by a poll every %v", text.Duration(s.Poll))
		}
	case plan.Stream:
		out += fmt.Sprintf(", %s by %s", text.Plural(s.Partitions, "partition"), s.Key)
	case plan.Schedule:
		for i := range s.Times {
			t := &s.Times[i]
			if t.Interval() > 0 {
				out += fmt.Sprintf(", every %v", text.Duration(t.Interval()))
			} else {
				out += fmt.Sprintf(", %s in %s", t.Text, t.Zone)
			}
		}
		out += ", " + [...]string{"skipped", "waiting", "beside it"}[s.WhileRunning] + " while an earlier one runs"
	}
	if s.BatchMax > 1 {
		out += fmt.Sprintf(", batches of up to %d or after %v", s.BatchMax, text.Duration(s.BatchWait))
	}
	if s.Kind == plan.Queue && s.Key != "" {
		out += ", in order by " + s.Key
	}
	if s.LeaseMost > 0 {
		out += fmt.Sprintf(", a lease of %v extended up to %v", text.Duration(s.Lease), text.Duration(s.LeaseMost))
	}
	if len(s.Wires) > 0 {
		out += ", " + text.Plural(s.Attempts, "attempt")
		if s.OnFailure == plan.Split {
			out += ", then halved to find the bad record"
		}
		if s.DeadLetter >= 0 {
			out += ", then to " + p.Sources[s.DeadLetter].Name
		}
	}
	return out
}
