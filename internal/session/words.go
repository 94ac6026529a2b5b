package session

import (
	"fmt"
	"strings"

	"nightdrill/internal/core/plan"
)

// Plural returns a number with its word.
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, ok := strings.CutSuffix(word, "ly"); ok { // reply
		return fmt.Sprintf("%d %slies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// SourceWords describes in a line what a source is and by which rules it delivers.
func SourceWords(p *plan.Project, s *plan.Source) string {
	text := s.Kind.String()
	switch s.Kind {
	case plan.HTTP:
		if s.Wait == 0 {
			text += ", rejected at once when no instance is free"
		} else {
			text += fmt.Sprintf(", rejected after waiting %v for an instance", s.Wait)
		}
		if s.Token != "" {
			text += ", with a bearer token"
		}
		if s.CORS != nil {
			text += ", open to pages of " + strings.Join(s.CORS.Origins, ", ")
		}
		return text
	case plan.Storage:
		text += ", bucket " + s.Bucket
		if s.Folder != "" {
			text += ", the files of a folder"
		}
		if s.Poll > 0 {
			text += fmt.Sprintf(", found by a poll every %v", s.Poll)
		}
	case plan.Stream:
		text += fmt.Sprintf(", %s by %s", Plural(s.Partitions, "partition"), s.Key)
	case plan.Schedule:
		for i := range s.Times {
			t := &s.Times[i]
			if t.Interval() > 0 {
				text += fmt.Sprintf(", every %v", t.Interval())
			} else {
				text += fmt.Sprintf(", %s in %s", t.Text, t.Zone)
			}
		}
		text += ", " + [...]string{"skipped", "waiting", "beside it"}[s.WhileRunning] + " while an earlier one runs"
	}
	if s.BatchMax > 1 {
		text += fmt.Sprintf(", batches of up to %d or after %v", s.BatchMax, s.BatchWait)
	}
	if s.Kind == plan.Queue && s.Key != "" {
		text += ", in order by " + s.Key
	}
	if s.LeaseMost > 0 {
		text += fmt.Sprintf(", a lease of %v extended up to %v", s.Lease, s.LeaseMost)
	}
	if len(s.Wires) > 0 {
		text += ", " + Plural(s.Attempts, "attempt")
		if s.OnFailure == plan.Split {
			text += ", then halved to find the bad record"
		}
		if s.DeadLetter >= 0 {
			text += ", then to " + p.Sources[s.DeadLetter].Name
		}
	}
	return text
}
