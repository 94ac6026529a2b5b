package engine

import (
	"fmt"
	"strings"

	"nightdrill.dev/internal/core/plan"
)

// Describe writes an effect in words, with the project's names; events is the
// memory that Send refers to.
func (f *Effect) Describe(p *plan.Project, events []int64) string {
	instance := func() string { return fmt.Sprintf("%s-%d", p.Functions[f.Function].Name, f.Number) }
	switch f.Kind {
	case EventTaken:
		s := fmt.Sprintf("event %d at %s", f.Event, p.Sources[f.Source].Name)
		switch f.Origin {
		case FromDeadLetter:
			s += fmt.Sprintf(", the dead letter of %d", f.From)
		case FromReply:
			s += fmt.Sprintf(", the reply to %d", f.From)
		}
		return s
	case Start:
		s := "start " + instance()
		if f.Version > 0 {
			s += fmt.Sprintf(", version %d", f.Version)
		}
		switch f.Cause {
		case NoCause, NothingThere:
			return s
		case AfterStop:
			return fmt.Sprintf("%s: %v: %v", s, f.Cause, f.Reason)
		}
		return fmt.Sprintf("%s: %v", s, f.Cause)
	case Send:
		list := strings.Trim(fmt.Sprint(events[f.First:f.First+f.N]), "[]")
		return fmt.Sprintf("send %s to %s/%d, %v", list, instance(), f.Slot, f.Class)
	case Stop:
		return fmt.Sprintf("stop %s: %v", instance(), f.Reason)
	case AttemptEnded:
		return fmt.Sprintf("attempt %d of %d ended: %v", f.Attempt, f.Event, f.Result)
	case Ended:
		if f.Outcome == Rejected {
			return fmt.Sprintf("%d is %v: %v", f.Event, f.Outcome, f.Cause)
		}
		return fmt.Sprintf("%d is %v", f.Event, f.Outcome)
	case GivenUp:
		return fmt.Sprintf("%s/%d is given up", instance(), f.Slot)
	case Extended:
		return fmt.Sprintf("the lease of %s/%d is extended", instance(), f.Slot)
	case Late:
		return "late answer, settles nothing"
	}
	return "over"
}
