package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/tui/compareview"
	"nightdrill.dev/internal/tui/findings"
	"nightdrill.dev/internal/tui/msg"
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

// choices returns what can be compared.
func (s *shell) choices() (c compareview.Choices) {
	d := s.workspace
	for i := range d.Functions {
		f := &d.Functions[i]
		of := compareview.FunctionChoice{Name: f.Name, Limits: map[string]string{"max": strconv.Itoa(f.Limits.Max),
			"keep_warm": strconv.Itoa(f.Limits.KeepWarm), "idle_after": f.Limits.IdleAfter.String(),
			"start_rate": f.Limits.StartRate(), "guaranteed": strconv.Itoa(f.Limits.Guaranteed)}}
		for _, name := range d.Variants(f.Name) {
			if v := d.Whole.FunctionNamed(name); v < 0 || d.Whole.Functions[v].Transport != plan.Attach {
				of.Variants = append(of.Variants, name)
			}
		}
		c.Functions = append(c.Functions, of)
	}
	for i := range d.Drills {
		if d.Drills[i].Cold == nil {
			c.Drills = append(c.Drills, d.Drills[i].Name)
		}
	}
	return c
}

// compareLimits carries a drill out under two limits, and compares the two runs.
func (s *shell) compareLimits(l compareview.Limits) tea.Cmd {
	drill := s.workspace.DrillNamed(l.Drill)
	if drill == nil {
		s.complain(fmt.Errorf("the drill %s is no longer in the project", l.Drill))
		return nil
	}
	var sides [2]*plan.Drill
	for i, change := range l.Sides {
		var err error
		if sides[i], err = project.ChangeLimits(s.workspace.Project, drill, []string{change}); err != nil {
			s.complain(err)
			return nil
		}
	}
	runs := s.workspace.Runs
	cmd := s.start(sides[0])
	if cmd != nil {
		s.again, s.after = true, func(first string) tea.Cmd {
			_ = runs.Note(first, l.Sides[0]) // for whoever reads the list; the comparison does without
			return func() tea.Msg { return secondMsg{first, l.Sides[1], sides[1]} }
		}
	}
	return cmd
}

// secondMsg starts the second side of a comparison, when the first has ended.
type secondMsg struct {
	first, note string
	drill       *plan.Drill
}

func (s *shell) startSecond(m secondMsg) tea.Cmd {
	cmd := s.start(m.drill)
	if cmd == nil {
		return s.resume
	}
	runs := s.workspace.Runs
	s.after = func(second string) tea.Cmd {
		_ = runs.Note(second, m.note)
		return s.compareAfter(m.first, second)
	}
	return cmd
}

// vary carries the drill of a run out again with another setting of an upstream, and compares the two.
func (s *shell) vary(m findings.Vary) tea.Cmd {
	info, err := s.workspace.Runs.Find(m.ID)
	if err != nil {
		s.complain(err)
		return nil
	}
	drill := s.workspace.DrillNamed(info.Drill)
	if drill == nil {
		s.complain(fmt.Errorf("the drill %s is no longer in the project", info.Drill))
		return nil
	}
	if drill, err = s.workspace.ChangeUpstreamsOf(drill, strings.Fields(m.Change)); err != nil {
		s.complain(err)
		return nil
	}
	cmd := s.start(drill)
	if cmd != nil {
		runs := s.workspace.Runs
		s.after = func(run string) tea.Cmd {
			_ = runs.Note(run, m.Change) // for whoever reads the list; the comparison does without
			s.compare.BeginWith(m.Function)
			return s.compareAfter(m.ID, run)
		}
	}
	return cmd
}
