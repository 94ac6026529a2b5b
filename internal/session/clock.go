package session

import (
	"fmt"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/session/catalog"
)

// Ticking reports whether schedules fire automatically.
func (s *Session) Ticking() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ticking
}

// SetTicking sets whether schedules fire automatically while the program is open.
func (s *Session) SetTicking(on bool) {
	s.mu.Lock()
	s.ticking = on
	s.mu.Unlock()
	s.rewind()
}

// rewind makes the schedules be read again.
func (s *Session) rewind() {
	select {
	case s.wind <- struct{}{}:
	default:
	}
}

// missedAfter is how late a scheduled run may be fired before it counts as missed: the machine
// slept, or a drill had the functions.
const missedAfter = 2 * time.Second

// keepTime fires schedules when they fall due, while they are not paused.
func (s *Session) keepTime() {
	last := time.Now()
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		wait := s.tick(&last)
		timer.Reset(wait)
		select {
		case <-timer.C:
		case <-s.wind:
			if s.Ticking() {
				last = time.Now() // what was before no one wanted
			}
		case <-s.life.Done():
			return
		}
	}
}

// longestWait bounds a wait, so that a machine that slept is noticed.
const longestWait = 10 * time.Second

// tick fires what has fallen due since the last time, and returns how long to wait for the next.
func (s *Session) tick(last *time.Time) time.Duration {
	s.mu.Lock()
	sources, ticking, paused := s.Sources, s.ticking, s.paused != ""
	s.mu.Unlock()
	now := time.Now().Round(0) // by the wall clock: time in which the machine slept counts
	if !ticking || paused {
		if !paused {
			*last = now
		}
		return longestWait
	}
	wait := longestWait
	for i := range sources {
		src := &sources[i]
		if src.Kind != plan.Schedule {
			continue
		}
		var due []catalog.DueTime
		for _, t := range catalog.NextTimes(src, *last, 1000) {
			if t.At.After(now) {
				wait = min(wait, t.At.Sub(now))
				break
			}
			due = append(due, t)
		}
		missed := 0
		for len(due) > 0 && now.Sub(due[0].At) > missedAfter {
			missed++
			if src.CatchUp && len(due) == 1 {
				break // once for all that were missed
			}
			due = due[1:]
		}
		if missed > 0 {
			what := "they are skipped"
			if src.CatchUp {
				what = "they are made up for once"
			}
			s.Log.Add(now, src.Name, src.Name, logs.Note,
				fmt.Sprintf("%d scheduled runs were missed while the program or the machine was asleep; %s (missed)",
					missed, what))
		}
		for _, t := range due {
			if t.Note != "" {
				s.Log.Add(now, src.Name, src.Name, logs.Note, t.Note)
			}
			p := plan.ScheduleEvent(src, t.Spec, t.At)
			s.Fire(Order{Item: &catalog.Item{Source: i, SourceName: src.Name, Label: "due " + t.At.Format("15:04:05"),
				Payload: &payload.Payload{Event: p.Event, Time: t.At}}, Origin: ByClock})
		}
	}
	*last = now
	return wait
}
