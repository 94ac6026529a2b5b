package tui

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/msg"
)

// stoppable is a screen that job control can put to the background and bring back: by
// Ctrl-Z, or by SIGTSTP from outside. The shell gets the terminal as it was. What was
// started goes on meanwhile; a drill says that its driver stood still.
type stoppable struct {
	tea.Model
	stops chan os.Signal
	away  bool
}

type (
	stopMsg struct{}            // SIGTSTP from outside
	backMsg struct{ err error } // the screen is there again
)

// runStoppable runs a screen until it ends; more is done with the program meanwhile.
func runStoppable(m tea.Model, more func(*tea.Program), options ...tea.ProgramOption) error {
	s := &stoppable{Model: m, stops: make(chan os.Signal, 1)}
	p := tea.NewProgram(s, options...)
	signal.Notify(s.stops, syscall.SIGTSTP)
	left := make(chan struct{})
	go func() {
		for {
			select {
			case <-s.stops:
				p.Send(stopMsg{})
			case <-left:
				return
			}
		}
	}()
	if more != nil {
		more(p)
	}
	_, err := p.Run()
	close(left)
	signal.Stop(s.stops)
	return err
}

func (s *stoppable) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.KeyPressMsg:
		if m.String() == "ctrl+z" {
			return s, s.leave()
		}
	case stopMsg:
		return s, s.leave()
	case backMsg:
		if s.away = false; m.err != nil {
			return s, func() tea.Msg { return msg.Failed(m.err) }
		}
		return s, nil
	}
	var cmd tea.Cmd
	s.Model, cmd = s.Model.Update(m)
	return s, cmd
}

// leave restores the terminal and stops this process until it is continued.
func (s *stoppable) leave() tea.Cmd {
	if s.away {
		return nil
	}
	s.away = true
	return tea.Exec(stopping{}, func(err error) tea.Msg { return backMsg{err} })
}

// stopping stops the process group.
type stopping struct{}

func (stopping) SetStdin(io.Reader)  {}
func (stopping) SetStdout(io.Writer) {}
func (stopping) SetStderr(io.Writer) {}

// Run returns when the process goes on. A signal that is handled here is never the
// system's again, hence SIGSTOP; and since that stops a process also where no shell could
// bring it back (POSIX, orphaned process groups), a process of the same group tries SIGTSTP
// before.
func (stopping) Run() error {
	var pid int
	err := session.Beside(func() (err error) {
		pid, err = syscall.ForkExec("/bin/sh", []string{"sh", "-c", "kill -TSTP $$"},
			&syscall.ProcAttr{Env: []string{}})
		return err
	})
	if err != nil {
		return fmt.Errorf("cannot go to the background: %w", err)
	}
	var how syscall.WaitStatus
	for {
		if _, err = syscall.Wait4(pid, &how, syscall.WUNTRACED, nil); !errors.Is(err, syscall.EINTR) {
			break
		}
	}
	if err == nil && how.Stopped() {
		_ = syscall.Kill(pid, syscall.SIGKILL)
		_, _ = syscall.Wait4(pid, nil, 0, nil)
		on := make(chan os.Signal, 1) // it may take a moment until all threads have stopped
		signal.Notify(on, syscall.SIGCONT)
		defer signal.Stop(on)
		if err := syscall.Kill(0, syscall.SIGSTOP); err != nil {
			return err
		}
		<-on
		return nil
	}
	return errors.New("no shell to return to, so this cannot go to the background")
}
