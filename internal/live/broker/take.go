package broker

import (
	"context"
	"sync"

	"nightdrill.dev/internal/core/plan"
)

// Held is a message that was taken from a broker. It is the broker's until Done or Failed is called, once: what is held
// when the connection ends is delivered again.
type Held struct {
	Message
	once sync.Once
	end  func(failed bool) error
}

// Done acknowledges the message.
func (h *Held) Done() error { return h.over(false) }

// Failed rejects the message, so that it is not delivered again. Where a broker cannot reject, it is acknowledged: a
// copy is to be kept before.
func (h *Held) Failed() error { return h.over(true) }

func (h *Held) over(failed bool) (err error) {
	h.once.Do(func() { err = h.end(failed) })
	return err
}

// TakeOptions are what takes messages, and what a taking reports to.
type TakeOptions struct {
	// Name tells the program apart from others that take from the same place; the same each time, so that what it held
	// when it ended is delivered to it again.
	Name string
	// Most is how many messages are held at once.
	Most int
	// Each is called with each message, one at a time.
	Each  func(*Held)
	Ready func()
	Note  func(text string)
}

// Take takes messages from a place until the context ends, which is no error, or it cannot go on. Messages that are
// held then stay with the broker.
func (s *Server) Take(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	takers := map[string]func(context.Context, *plan.BrokerPlace, TakeOptions) error{"mqtt": s.takeMQTT,
		"amqp":  s.takeAMQP,
		"redis": s.takeRedis, "nats": s.takeNATS, "kafka": s.takeKafka}
	err := takers[s.Kind](ctx, at, o)
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (o *TakeOptions) options() Options { return Options{Ready: o.Ready, Note: o.Note} }

// held counts the messages that are held, and waits while there are too many.
type held struct{ free chan struct{} }

func newHeld(most int) *held { return &held{make(chan struct{}, max(most, 1))} }

// add waits until there is room for another message.
func (h *held) add(ctx context.Context) bool {
	select {
	case h.free <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

func (h *held) remove() { <-h.free }

// n returns how many there are.
func (h *held) n() int { return len(h.free) }

// heldAgain is what a connection that is made anew means for messages that are taken.
const heldAgain = "what was held is delivered again"
