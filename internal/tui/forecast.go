package tui

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"

	"nightdrill/internal/core/forecast"
	"nightdrill/internal/session"
	"nightdrill/internal/tui/findings"
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
	for _, t := range strings.Fields(m.Tries) {
		try, err := forecast.ParseTry(t)
		if err != nil {
			s.complain(err)
			return nil
		}
		o.Tries = append(o.Tries, try)
	}
	if len(o.Tries) == 0 {
		s.complain(errors.New("nothing to try; such as quote.max=1..8"))
		return nil
	}
	s.cancelForecast()
	ctx, cancel := context.WithCancel(s.ctx)
	s.endForecast = cancel
	s.forecasts++
	number := s.forecasts
	var n, all atomic.Int64
	s.findings.Forecasting(m.Tries, func() (int, int) { return int(n.Load()), int(all.Load()) })
	d := s.workspace
	return func() tea.Msg {
		defer cancel()
		x, err := d.ForecastOf(m.ID)
		if err == nil {
			err = x.Make(ctx, o, func(done, of int) {
				n.Store(int64(done))
				all.Store(int64(of))
			})
		}
		return forecastMsg{number, x, err}
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
		runs, dir, label := s.workspace.Runs, s.workspace.Dir, x.Made.Cells[cell].Name(x.Made)
		s.after = func(id string) tea.Cmd {
			return func() tea.Msg {
				_ = runs.Note(id, "forecast from "+x.Made.Run+": "+label) // for whoever reads the list
				run, err := runs.Load(id)
				if err == nil && !run.Finished {
					err = errors.New("the drill was stopped; nothing is compared with the forecast")
				}
				if err == nil {
					err = x.Measured(dir, cell, run)
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
