package broker

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"

	"nightdrill.dev/internal/core/plan"
)

// connectNATS connects and logs in. lost is called when a connection is lost, again when there is one anew, and slow
// when the server dropped what was not read in time.
func (s *Server) connectNATS(lost, again, slow func()) (*nats.Conn, error) {
	secure, err := s.tls()
	if err != nil {
		return nil, err
	}
	options := []nats.Option{nats.Name("nightdrill"), nats.MaxReconnects(-1), nats.ReconnectWait(againFirst),
		nats.Timeout(connectWithin), nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				lost()
			}
		}), nats.ReconnectHandler(func(*nats.Conn) { again() }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			if errors.Is(err, nats.ErrSlowConsumer) {
				slow()
			}
		})}
	if s.User != "" || s.Password != "" {
		if s.User == "" {
			options = append(options, nats.Token(s.Password))
		} else {
			options = append(options, nats.UserInfo(s.User, s.Password))
		}
	}
	scheme := "nats://"
	if secure != nil {
		scheme = "tls://"
		options = append(options, nats.Secure(secure))
	}
	c, err := nats.Connect(scheme+s.Address, options...)
	switch {
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired):
		return nil, s.refused()
	case secure == nil && errors.As(err, new(*tls.CertificateVerificationError)): // the client chose TLS by itself
		return nil, fmt.Errorf("%s wants TLS; the scheme for that is nats+tls", s.Name)
	case errors.Is(err, nats.ErrSecureConnWanted), errors.As(err, new(tls.RecordHeaderError)):
		return nil, fmt.Errorf("%s does not speak TLS; the scheme without it is nats", s.Name)
	case errors.Is(err, nats.ErrNoServers):
		return nil, s.connecting(errors.New("connection refused"))
	case err != nil:
		return nil, s.connecting(err)
	}
	return c, nil
}

// copyNATS subscribes to a subject, or reads a stream of JetStream with a consumer of its own that acknowledges
// nothing.
func (s *Server) copyNATS(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	messages := make(chan *nats.Msg)
	var lost atomic.Int32           // 1 for some
	renew := make(chan struct{}, 1) // the stream is to be subscribed to anew
	anew := func() {
		select {
		case renew <- struct{}{}:
		default:
		}
	}
	c, err := s.connectNATS(func() { o.Note(s.lost()) },
		func() {
			if at.Stream == "" {
				lost.Store(1)
				o.Note(s.again("what passed meanwhile is missing"))
				return
			}
			o.Note(s.again("the stream is read on from where it was"))
			anew() // a consumer that keeps nothing is gone after a restart of the server
		},
		func() {
			lost.Store(1)
			o.Note(fmt.Sprintf("%s: more comes than can be written, and messages were dropped", s.Name))
		})
	if err != nil {
		return err
	}
	defer c.Close()
	var ordered *nats.Subscription
	if at.Stream != "" {
		if ordered, err = s.orderedNATS(ctx, c, at, messages, 0); err != nil {
			return err
		}
	} else {
		sub, err := c.SubscribeSync(at.Subject)
		if err != nil {
			return fmt.Errorf("%s does not accept the subject %q: %s", s.Name, at.Subject, s.clean(err.Error()))
		}
		go pass(ctx, sub, messages)
		if err := c.FlushTimeout(connectWithin); err != nil {
			return s.connecting(err)
		}
		if err := c.LastError(); err != nil && strings.Contains(strings.ToLower(err.Error()), "permissions violation") {
			return fmt.Errorf("%s does not let the user %q read %s", s.Name, s.User, at.Subject)
		}
	}
	if o.Ready != nil {
		o.Ready()
	}
	before := uint64(0) // sequence of the stream
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-renew:
			_ = ordered.Unsubscribe() // its consumer may be gone
			next, err := s.orderedNATS(ctx, c, at, messages, before+1)
			if err != nil { // the server may not be ready yet
				time.AfterFunc(againFirst, anew)
				continue
			}
			ordered = next
		case x := <-messages:
			m, sequence := natsMessage(x)
			if sequence > 0 && sequence <= before {
				continue // of the subscription before
			}
			switch {
			case lost.Swap(0) > 0:
				m.Lost = -1
			case sequence > before+1 && before > 0 && at.Subject == "":
				m.Lost = int(sequence - before - 1) // deleted, or beyond a limit of the stream
			}
			before = sequence
			if err := o.Each(m); err != nil {
				return &stopped{err}
			}
		}
	}
}

// orderedNATS reads a stream from a sequence on, or, with 0, from now on.
func (s *Server) orderedNATS(ctx context.Context, c *nats.Conn, at *plan.BrokerPlace, to chan *nats.Msg,
	from uint64) (*nats.Subscription,
	error) {
	js, err := c.JetStream(nats.MaxWait(connectWithin))
	if err != nil {
		return nil, s.connecting(err)
	}
	info, err := js.StreamInfo(at.Stream)
	switch {
	case errors.Is(err, nats.ErrStreamNotFound):
		return nil, fmt.Errorf("%s has no stream %q", s.Name, at.Stream)
	case errors.Is(err, nats.ErrJetStreamNotEnabled), errors.Is(err, nats.ErrNoResponders):
		return nil, fmt.Errorf("%s has no streams: JetStream is not enabled there; copy a subject", s.Name)
	case err != nil:
		return nil, fmt.Errorf("%s: %s", s.Name, s.clean(err.Error()))
	case info.Config.Retention == nats.WorkQueuePolicy:
		return nil, fmt.Errorf("%s of %s is a work queue, from which whoever reads takes; copy a subject of it "+
			"(%s), or take from it", at.Stream, s.Name, strings.Join(info.Config.Subjects, ", "))
	}
	subject := at.Subject
	if subject == "" {
		subject = ">"
	}
	begin := nats.DeliverNew()
	if from > 0 {
		begin = nats.StartSequence(from)
	}
	sub, err := js.SubscribeSync(subject, nats.BindStream(at.Stream), nats.OrderedConsumer(), begin)
	if err != nil {
		return nil, fmt.Errorf("%s does not let its stream %s be read: %s", s.Name, at.Stream, s.clean(err.Error()))
	}
	go pass(ctx, sub, to)
	return sub, nil
}

// waiting is what may wait to be written of a subscription, in messages and in bytes; more is dropped, which is noted.
const waiting, waitingBytes = 1 << 16, 64 << 20

// pass passes the messages of a subscription on until it, or the context, ends.
func pass(ctx context.Context, sub *nats.Subscription, to chan<- *nats.Msg) {
	_ = sub.SetPendingLimits(waiting, waitingBytes) // of a subscription that is open
	for {
		m, err := sub.NextMsgWithContext(ctx)
		if errors.Is(err, nats.ErrSlowConsumer) {
			continue // it is said once, by the handler of errors
		}
		if err != nil {
			return
		}
		select {
		case to <- m:
		case <-ctx.Done():
			return
		}
	}
}

// natsMessage returns a message, and its sequence number in the stream; 0 outside of streams.
func natsMessage(x *nats.Msg) (m *Message, sequence uint64) {
	m = &Message{At: time.Now(), Place: x.Subject, Partition: -1, Data: x.Data}
	for name, values := range x.Header {
		for _, v := range values {
			if strings.EqualFold(name, "content-type") {
				m.ContentType = v
				continue
			}
			m.header(name, v)
		}
	}
	m.sorted()
	if id := x.Header.Get(nats.MsgIdHdr); id != "" {
		m.ID = id
	}
	if meta, err := x.Metadata(); err == nil {
		m.Sent, sequence = meta.Timestamp, meta.Sequence.Stream
		m.Redelivered = meta.NumDelivered > 1
		if m.ID == "" {
			m.ID = strconv.FormatUint(sequence, 10)
		}
	}
	return m, sequence
}

// takeNATS reads a stream by a durable consumer that is there. What is worked on for long is said to be in progress.
func (s *Server) takeNATS(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	c, err := s.connectNATS(func() { o.Note(s.lost()) },
		func() { o.Note(s.again(heldAgain)) }, func() {})
	if err != nil {
		return err
	}
	defer c.Close()
	js, err := c.JetStream(nats.MaxWait(connectWithin))
	if err != nil {
		return s.connecting(err)
	}
	info, err := js.ConsumerInfo(at.Stream, at.Group)
	switch {
	case errors.Is(err, nats.ErrStreamNotFound):
		return fmt.Errorf("%s has no stream %q", s.Name, at.Stream)
	case errors.Is(err, nats.ErrConsumerNotFound):
		return fmt.Errorf("%s of %s has no durable consumer %q", at.Stream, s.Name, at.Group)
	case errors.Is(err, nats.ErrJetStreamNotEnabled), errors.Is(err, nats.ErrNoResponders):
		return fmt.Errorf("%s has no streams: JetStream is not enabled there", s.Name)
	case err != nil:
		return fmt.Errorf("%s: %s", s.Name, s.clean(err.Error()))
	case info.Config.DeliverSubject != "" || info.Config.AckPolicy != nats.AckExplicitPolicy:
		return fmt.Errorf("the consumer %s of %s must be one that is pulled from, with explicit acknowledgement",
			at.Group,
			at.Stream)
	}
	sub, err := js.PullSubscribe(at.Subject, at.Group, nats.Bind(at.Stream, at.Group))
	if err != nil {
		return fmt.Errorf("%s does not let its stream %s be read: %s", s.Name, at.Stream, s.clean(err.Error()))
	}
	if o.Ready != nil {
		o.Ready()
	}
	room := newHeld(o.Most)
	var mu sync.Mutex
	working := map[*nats.Msg]bool{}
	every := max(info.Config.AckWait/3, 100*time.Millisecond)
	go func() {
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				mu.Lock()
				for m := range working {
					_ = m.InProgress() // else it is delivered again, which is seen
				}
				mu.Unlock()
			}
		}
	}()
	for ctx.Err() == nil {
		if !room.add(ctx) {
			return nil
		}
		room.remove()
		fetching, end := context.WithTimeout(ctx, time.Second)
		all, err := sub.Fetch(max(o.Most-room.n(), 1), nats.Context(fetching))
		end()
		if err != nil && len(all) == 0 {
			if !errors.Is(err, context.DeadlineExceeded) && !errors.Is(err, nats.ErrTimeout) {
				select { // it connects again by itself
				case <-ctx.Done():
				case <-time.After(againFirst):
				}
			}
			continue
		}
		for _, x := range all {
			if !room.add(ctx) {
				return nil
			}
			mu.Lock()
			working[x] = true
			mu.Unlock()
			m, _ := natsMessage(x)
			o.Each(&Held{Message: *m, end: func(failed bool) error {
				defer room.remove()
				mu.Lock()
				delete(working, x)
				mu.Unlock()
				if failed {
					return x.Term()
				}
				return x.AckSync(nats.AckWait(connectWithin))
			}})
		}
	}
	return nil
}
