package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill/internal/core/plan"
	"nightdrill/internal/export"
	"nightdrill/internal/session/kept"
	"nightdrill/internal/tui/compareview"
	"nightdrill/internal/tui/msg"
)

// inProject returns a folder that is named from the project's.
func (s *shell) inProject(dir string) string {
	if dir = strings.TrimSpace(dir); filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(s.workspace.Dir, dir)
}

// exportRun writes all exports of a run to a folder.
func (s *shell) exportRun(id, dir string) tea.Cmd {
	runs, to := s.workspace.Runs, s.inProject(dir)
	s.note, s.good = "writing …", true
	return func() tea.Msg {
		info, err := runs.Find(id)
		if err != nil {
			return msg.Failed(err)
		}
		source, err := kept.SourceOf(runs, info)
		if err != nil {
			return msg.Failed(err)
		}
		files, err := kept.Export(source, kept.CompareVariants(source.Run), kept.Exporting{Dir: to})
		if err != nil {
			return msg.Failed(err)
		}
		return msg.Note{Text: fmt.Sprintf("%d files written to %s", len(files), to)}
	}
}

// exportComparison writes comparisons as pictures.
func (s *shell) exportComparison(x compareview.Export) tea.Cmd {
	to := s.inProject(x.Dir)
	return func() tea.Msg {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return msg.Failed(err)
		}
		n := 0
		for _, c := range x.All {
			for _, kind := range []string{"svg", "pdf"} {
				if err := export.ComparisonFile(filepath.Join(to, "comparison-"+kept.FileName(c.Title)+"."+kind), c,
					false); err != nil {
					return msg.Failed(err)
				}
				n++
			}
		}
		return msg.Note{Text: fmt.Sprintf("%d files written to %s", n, to)}
	}
}

// replayMsg is a run that is ready to be replayed.
type replayMsg struct {
	drill *plan.Drill
	notes []string
	err   error
}

// replay makes a drill of a run.
func (s *shell) replay(id string) tea.Cmd {
	d := s.workspace
	return func() tea.Msg {
		r, err := d.Runs.Load(id)
		if err != nil {
			return replayMsg{err: err}
		}
		drill, notes, err := d.ReplayOf(r)
		return replayMsg{drill, notes, err}
	}
}

// replayed begins the replay of a run; it is compared with the run when it is over.
func (s *shell) replayed(msg replayMsg) tea.Cmd {
	if msg.err != nil {
		s.complain(msg.err)
		return nil
	}
	if msg.notes != nil {
		s.note, s.good = strings.Join(msg.notes, "; "), true
	}
	cmd := s.start(msg.drill)
	if cmd != nil {
		s.after = func(run string) tea.Cmd { return s.compareAfter(msg.drill.Again, run) }
	}
	return cmd
}

// compareVariants starts a drill that compares the variants of a function.
func (s *shell) compareVariants(v compareview.Variants) tea.Cmd {
	d, err := s.workspace.VariantDrill(v.Function, v.Of, v.Cold, v.Warm, v.Early, "", "")
	if err != nil {
		s.complain(err)
		return nil
	}
	cmd := s.start(d)
	if cmd != nil {
		s.after = func(run string) tea.Cmd { return s.compareAfter("", run) }
	}
	return cmd
}

type compareMsg struct{ first, second string }

// compareAfter compares two runs once the list of runs has both.
func (s *shell) compareAfter(first, second string) tea.Cmd {
	return func() tea.Msg { return compareMsg{first, second} }
}

// variants returns what is written when variants are asked for: the first function that
// has any.
func (s *shell) variants() string {
	for i := range s.workspace.Functions {
		if f := &s.workspace.Functions[i]; len(f.Variants) > 0 {
			text := f.Name + " " + f.Name
			for _, v := range f.Variants {
				text += " " + strings.TrimPrefix(v.Name, f.Name+"@")
			}
			return text + " cold=30 warm=500"
		}
	}
	return ""
}
