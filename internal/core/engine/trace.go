package engine

import (
	"fmt"
	"strings"

	"nightdrill/internal/core/plan"
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
		if f.Version > 0 {
			return fmt.Sprintf("start %s, version %d", instance(), f.Version)
		}
		return "start " + instance()
	case Send:
		list := strings.Trim(fmt.Sprint(events[f.First:f.First+f.N]), "[]")
		return fmt.Sprintf("send %s to %s/%d, %v", list, instance(), f.Slot, f.Class)
	case Stop:
		return fmt.Sprintf("stop %s: %v", instance(), f.Reason)
	case AttemptEnded:
		return fmt.Sprintf("attempt %d of %d ended: %v", f.Attempt, f.Event, f.Result)
	case Ended:
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
