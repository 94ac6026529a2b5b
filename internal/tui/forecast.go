package tui

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/findings"
)

// forecastMsg is what a forecast came to.
type forecastMsg struct {
	number int // of the request
	of     *session.Forecasting
	err    error
}

// forecast makes a forecast in the background.
func (s *shell) forecast(m findings.Foretell) tea.Cmd {
	if s.running != nil || s.preparing != "" {
		s.complain(errors.New("a forecast would take the processors from the drill that runs; wait until it has ended"))
		return nil
	}
	var o forecast.Order
	var traffic []string
	for _, t := range strings.Fields(m.Tries) {
		if !strings.Contains(t, "=") {
			traffic = append(traffic, t)
			continue
		}
		try, err := forecast.ParseTry(t)
		if err != nil {
			s.complain(err)
			return nil
		}
		o.Tries = append(o.Tries, try)
	}
	if len(o.Tries) == 0 && len(traffic) == 0 {
		s.complain(errors.New("nothing to try; such as quote.max=1..8"))
		return nil
	}
	var err error
	if o.Traffic, err = s.workspace.ParseTraffic(traffic); err != nil {
		s.complain(err)
		return nil
	}
	w := s.simulate()
	s.findings.Forecasting(m.Tries, w.percent)
	d := s.workspace
	return func() tea.Msg {
		defer w.end()
		x, err := d.ForecastOf(m.ID)
		if err == nil {
			err = x.Make(w.ctx, o, w.done)
		}
		return forecastMsg{w.number, x, err}
	}
}

// simulating is a forecast or a break-even that is being made.
type simulating struct {
	ctx    context.Context
	end    context.CancelFunc
	number int // of the request
	share  atomic.Int64
}

func (w *simulating) done(share float64) { w.share.Store(int64(100 * share)) }

func (w *simulating) percent() int { return int(w.share.Load()) }

// simulate begins to make a forecast or a break-even; the one that is being made, if any, is cancelled.
func (s *shell) simulate() *simulating {
	s.cancelForecast()
	s.forecasts++
	w := &simulating{number: s.forecasts}
	w.ctx, w.end = context.WithCancel(s.ctx)
	s.endForecast = w.end
	return w
}

// evenMsg is what a break-even came to.
type evenMsg struct {
	number int
	e      *forecast.BreakEven
	err    error
}

// even finds in the background from which rate on one value of a limit costs less than another.
func (s *shell) even(what string) tea.Cmd {
	x := s.forecasting
	of, err := forecast.ParseEven(strings.TrimSpace(what))
	if err != nil || x == nil || s.running != nil || s.preparing != "" {
		s.complain(cmp.Or(err, errors.New("a drill runs, from which this would take the processors; wait until it has "+
			"ended")))
		return nil
	}
	w := s.simulate()
	s.findings.Evening(w.percent)
	return func() tea.Msg {
		defer w.end()
		e, err := x.BreakEven(w.ctx, of, w.done)
		return evenMsg{w.number, e, err}
	}
}

// evened takes what a break-even came to.
func (s *shell) evened(m evenMsg) {
	if m.number != s.forecasts || s.endForecast == nil { // it was cancelled
		return
	}
	s.endForecast = nil
	s.findings.BreakEven(m.e)
	if m.err != nil {
		s.complain(m.err)
	}
}

// cancelForecast ends the forecast that is being made, if any.
func (s *shell) cancelForecast() {
	if s.endForecast != nil {
		s.endForecast()
		s.endForecast = nil
		s.findings.Forecast(nil, "")
	}
}

// forecasted takes what a forecast came to.
func (s *shell) forecasted(m forecastMsg) {
	switch {
	case m.number != s.forecasts || s.endForecast == nil: // it was cancelled
		return
	case m.err != nil:
		s.endForecast = nil
		s.findings.Forecast(nil, "")
		s.complain(m.err)
		return
	}
	s.forecasting, s.endForecast = m.of, nil
	s.showForecast()
}

func (s *shell) showForecast() {
	trials, _ := session.Trials(s.workspace.Dir)
	s.findings.Forecast(s.forecasting.Made, session.TrialsSentence(trials))
}

// imagine shows the lanes of the simulated run of a setting.
func (s *shell) imagine(cell int) tea.Cmd {
	if s.forecasting == nil {
		return nil
	}
	s.tab = onDrill
	x := s.forecasting
	return func() tea.Msg { return lanesMsg{run: x.Simulated(cell)} }
}

// try carries the drill out with a setting of the forecast, and shows it beside what was measured.
func (s *shell) try(cell int) tea.Cmd {
	x := s.forecasting
	if x == nil {
		return nil
	}
	drill, err := x.Live(s.workspace.Project, cell)
	if err != nil {
		s.complain(err)
		return nil
	}
	cmd := s.start(drill)
	if cmd != nil {
		runs, label := s.workspace.Runs, x.Made.Cells[cell].Name(x.Made)
		s.after = func(id string) tea.Cmd {
			return func() tea.Msg {
				_ = runs.Note(id, "forecast from "+x.Made.Run+": "+label) // for whoever reads the list
				run, err := runs.Load(id)
				if err == nil && !run.Finished {
					err = errors.New("the drill was stopped; nothing is compared with the forecast")
				}
				if err == nil {
					err = x.Measured(cell, run)
				}
				return triedMsg{x, err}
			}
		}
	}
	return cmd
}

// triedMsg is that a setting was tried live.
type triedMsg struct {
	of  *session.Forecasting
	err error
}

// tried shows a forecast beside what was measured.
func (s *shell) tried(m triedMsg) tea.Cmd {
	if m.err != nil {
		s.complain(m.err)
		return nil
	}
	s.forecasting = m.of
	id, runs := m.of.Made.Run, s.workspace.Runs
	return func() tea.Msg {
		p, err := runs.Page(id)
		return loadedMsg{page: p, id: id, err: err, then: func() {
			s.findings.Forecasting("", nil)
			s.showForecast()
		}}
	}
}
