package session

import (
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/runner"
)

const (
	// keptOfLetters is how many bytes of failed events are kept whole, however old they are.
	keptOfLetters = 64 << 20
	// letterCosts is how many bytes one takes beside its data, roughly.
	letterCosts = 512
)

// sentAgain is an event that was sent again.
type sentAgain struct {
	driver *runner.Follower
	number int64
}

// letters are the failed events of a session that were not sent again, the oldest first.
type letters struct {
	all    []runner.Letter
	weight int
	full   bool // there was no room for the oldest
}

func weight(l *runner.Letter) int { return len(l.Payload.Data()) + letterCosts }

func (x *letters) add(l runner.Letter) {
	x.all = append(x.all, l)
	x.weight += weight(&l)
}

// keepLetters keeps the failed events of a firing that is over; the session's lock is held.
func (s *Session) keepLetters(f *Firing) {
	if f.trace == nil {
		return
	}
	for _, l := range f.driver.Letters(f.trace) {
		key := sentAgain{f.driver, l.Number}
		if s.resent[key] {
			delete(s.resent, key)
			continue
		}
		s.letters.add(l)
	}
	if s.letters.weight <= keptOfLetters {
		return
	}
	let := 0 // some at once, since the others move up
	for ; s.letters.weight > keptOfLetters/8*7 && let < len(s.letters.all)-1; let++ {
		s.letters.weight -= weight(&s.letters.all[let])
	}
	if !s.letters.full {
		s.letters.full = true
		s.Log.Add(time.Now(), "dead letters", "dead letters", logs.Note, fmt.Sprintf("there are more failed events "+
			"than fit into %d MiB: the oldest can no longer be sent again", keptOfLetters>>20))
	}
	s.letters.all = slices.Delete(s.letters.all, 0, let)
}

// lettersOf takes the failed events of a source out, or those of which it has the dead letters.
func (s *Session) lettersOf(source string) (out []runner.Letter) {
	s.mu.Lock()
	defer s.mu.Unlock()
	is := func(l runner.Letter) bool {
		return (l.Source == source || l.Dead == source) && s.Whole.SourceNamed(l.Source) >= 0
	}
	s.letters.all = slices.DeleteFunc(s.letters.all, func(l runner.Letter) bool {
		if !is(l) {
			return false
		}
		s.letters.weight -= weight(&l)
		out = append(out, l)
		return true
	})
	for _, f := range s.firings { // of those that are not over, what failed already
		if f.trace == nil || f.fate.over {
			continue
		}
		for _, l := range f.driver.Letters(f.trace) {
			if key := (sentAgain{f.driver, l.Number}); is(l) && !s.resent[key] {
				s.resent[key] = true
				out = append(out, l)
			}
		}
	}
	return out
}

// SendAgain sends those events of a source again that failed, or of which a dead-letter queue has the letters, each
// once. It returns how many there were.
func (s *Session) SendAgain(source string) (n int, err error) {
	if s.Plan().SourceNamed(source) < 0 {
		return 0, fmt.Errorf("there is no source %q", source)
	}
	all := s.lettersOf(source)
	for ; n < len(all); n++ {
		if _, err = s.firePublished(all[n].Source, all[n].Payload); err != nil {
			break
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range all[n:] { // kept for another time
		s.letters.add(l)
	}
	return n, err
}

// Resend sends the event of a firing again, as it was sent; nil for one of which only the beginning is kept.
func (s *Session) Resend(v *Shown) *Firing {
	if v.cut {
		return nil
	}
	item := *v.Item
	item.Payload, item.File = v.Sent, ""
	return s.Fire(Order{Item: &item, Variant: v.Variant, Origin: v.Origin})
}
