package export

import (
	"fmt"
	"io"

	"nightdrill.dev/internal/core/record"
)

// Log writes lines of a run's log as text, each with the time since the run began and its instance.
func Log(to io.Writer, lines []record.Line) error {
	widest := 0
	for i := range lines {
		widest = max(widest, len(lines[i].Instance))
	}
	for i := range lines {
		l := &lines[i]
		if _, err := fmt.Fprintf(to, "%9.3f s  %-*s  %s\n", l.At.Seconds(), widest, l.Instance, l.Text); err != nil {
			return err
		}
	}
	return nil
}
