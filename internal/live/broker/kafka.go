package broker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
	"github.com/twmb/franz-go/pkg/sasl/plain"

	"nightdrill.dev/internal/core/plan"
)

// clientKafka connects, logs in and looks whether there is the topic.
func (s *Server) clientKafka(ctx context.Context, topic string, more ...kgo.Opt) (*kgo.Client, []int32, error) {
	secure, err := s.tls()
	if err != nil {
		return nil, nil, err
	}
	options := append([]kgo.Opt{kgo.SeedBrokers(s.Address), kgo.ClientID("nightdrill"), kgo.DialTimeout(connectWithin),
		kgo.DisableClientMetrics(), kgo.RequestRetries(1)}, more...)
	if secure != nil {
		secure.ServerName = "" // brokers have hosts of their own
		options = append(options, kgo.DialTLSConfig(secure))
	}
	if s.User != "" || s.Password != "" {
		options = append(options, kgo.SASL(plain.Auth{User: s.User, Pass: s.Password}.AsMechanism()))
	}
	c, err := kgo.NewClient(options...)
	if err != nil {
		return nil, nil, fmt.Errorf("broker %s: %s", s.Name, s.clean(err.Error()))
	}
	ctx, stop := context.WithTimeout(ctx, connectWithin)
	defer stop()
	partitions, err := s.probeKafka(ctx, c, topic)
	if err != nil {
		c.Close()
	}
	return c, partitions, err
}

// probeKafka returns the partitions of a topic, or why it cannot be read.
func (s *Server) probeKafka(ctx context.Context, c *kgo.Client, topic string) (partitions []int32, err error) {
	// a connection that is refused is tried again and again by the client
	conn, err := (&net.Dialer{Timeout: connectWithin}).DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return nil, s.connecting(err)
	}
	_ = conn.Close()
	r := kmsg.NewPtrMetadataRequest()
	r.AllowAutoTopicCreation = false
	of := kmsg.NewMetadataRequestTopic()
	of.Topic = kmsg.StringPtr(topic)
	r.Topics = append(r.Topics, of)
	answer, err := r.RequestWith(ctx, c)
	switch {
	case errors.Is(err, kerr.SaslAuthenticationFailed), errors.Is(err, kerr.UnsupportedSaslMechanism),
		err != nil && strings.Contains(err.Error(), "is SASL missing"):
		return nil, s.refused()
	case err != nil && (s.User != "" || s.Password != "") && !s.Secure && errors.Is(err, io.EOF):
		return nil, fmt.Errorf("%w, or it wants TLS (kafka+tls)", s.refused())
	case err != nil:
		return nil, s.connecting(err)
	}
	for _, t := range answer.Topics {
		for _, p := range t.Partitions {
			partitions = append(partitions, p.Partition)
		}
		switch err := kerr.ErrorForCode(t.ErrorCode); {
		case errors.Is(err, kerr.UnknownTopicOrPartition):
			return nil, fmt.Errorf("%s has no topic %q", s.Name, topic)
		case errors.Is(err, kerr.TopicAuthorizationFailed):
			return nil, fmt.Errorf("%s does not let the user %q read %s", s.Name, s.User, topic)
		case err != nil:
			return nil, fmt.Errorf("%s: topic %s: %w", s.Name, topic, err)
		}
	}
	return partitions, nil
}

// copyKafka reads a topic from now on, without a group.
func (s *Server) copyKafka(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	c, partitions, err := s.clientKafka(ctx, at.Topic, kgo.FetchMaxWait(500*time.Millisecond))
	if err != nil {
		return err
	}
	defer c.Close()
	ends, err := s.endsKafka(ctx, c, at.Topic, partitions)
	if err != nil {
		return err
	}
	c.AddConsumePartitions(map[string]map[int32]kgo.Offset{at.Topic: ends})
	if o.Ready != nil {
		o.Ready()
	}
	next, lost := map[int32]int64{}, false
	for ctx.Err() == nil {
		got := c.PollFetches(ctx)
		if ctx.Err() != nil {
			return nil
		}
		for _, e := range got.Errors() {
			var gap *kgo.ErrDataLoss
			switch {
			case errors.As(e.Err, &gap):
				o.Note(fmt.Sprintf("%s deleted records of %s before they could be read", s.Name, at.Topic))
			case !lost:
				lost = true
				o.Note(s.lost() + ": " + s.clean(e.Err.Error()))
			}
		}
		var failed error
		got.EachRecord(func(r *kgo.Record) {
			if failed != nil {
				return
			}
			if lost {
				lost = false
				o.Note(s.again("the topic is read on from where it was"))
			}
			m := kafkaMessage(r)
			// offsets that are missing are of records that were deleted or compacted, or of marks of transactions
			if n, known := next[r.Partition]; known && r.Offset > n {
				m.Lost = int(r.Offset - n)
			}
			next[r.Partition] = r.Offset + 1
			failed = o.Each(m)
		})
		if failed != nil {
			return &stopped{failed}
		}
	}
	return nil
}

// endsKafka returns from where on each partition of a topic has nothing yet.
func (s *Server) endsKafka(ctx context.Context, c *kgo.Client, topic string, partitions []int32) (
	map[int32]kgo.Offset, error) {
	ctx, stop := context.WithTimeout(ctx, connectWithin)
	defer stop()
	r := kmsg.NewPtrListOffsetsRequest()
	of := kmsg.NewListOffsetsRequestTopic()
	of.Topic = topic
	for _, p := range partitions {
		x := kmsg.NewListOffsetsRequestTopicPartition()
		x.Partition, x.Timestamp = p, -1 // the end
		of.Partitions = append(of.Partitions, x)
	}
	r.Topics = append(r.Topics, of)
	answer, err := r.RequestWith(ctx, c)
	if err != nil {
		return nil, s.connecting(err)
	}
	out := map[int32]kgo.Offset{}
	for _, t := range answer.Topics {
		for _, p := range t.Partitions {
			if err := kerr.ErrorForCode(p.ErrorCode); err != nil {
				return nil, fmt.Errorf("%s: partition %d of %s: %w", s.Name, p.Partition, topic, err)
			}
			out[p.Partition] = kgo.NewOffset().At(p.Offset)
		}
	}
	return out, nil
}

// kafkaMessage returns a record.
func kafkaMessage(r *kgo.Record) *Message {
	m := &Message{At: time.Now(), Sent: r.Timestamp, Place: r.Topic, Key: string(r.Key), Partition: int(r.Partition),
		ID: fmt.Sprintf("%d-%d", r.Partition, r.Offset), Data: r.Value}
	for _, h := range r.Headers {
		if strings.EqualFold(h.Key, "content-type") {
			m.ContentType = string(h.Value)
			continue
		}
		m.header(h.Key, string(h.Value))
	}
	return m
}

// takeKafka reads a topic as a member of a group. What is committed is the lowest offset of each partition that is not
// done: records after it may be delivered again.
func (s *Server) takeKafka(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	done := &committer{pending: map[int32]*partition{}}
	c, _, err := s.clientKafka(ctx, at.Topic, kgo.ConsumerGroup(at.Group), kgo.ConsumeTopics(at.Topic),
		kgo.DisableAutoCommit(), kgo.FetchMaxWait(500*time.Millisecond), kgo.InstanceID(o.Name),
		kgo.OnPartitionsRevoked(func(ctx context.Context, c *kgo.Client, of map[string][]int32) {
			done.commit(ctx, c, at.Topic)
			done.forget(of[at.Topic])
		}), kgo.OnPartitionsLost(func(_ context.Context, _ *kgo.Client,
			of map[string][]int32) {
			done.forget(of[at.Topic])
		}))
	if err != nil {
		return err
	}
	defer func() {
		ending, end := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer end()
		done.commit(ending, c, at.Topic)
		c.CloseAllowingRebalance()
	}()
	if o.Ready != nil {
		o.Ready()
	}
	room := newHeld(o.Most)
	lost := false
	committed := time.Now()
	for ctx.Err() == nil {
		polling, end := context.WithTimeout(ctx, time.Second)
		got := c.PollRecords(polling, max(o.Most-room.n(), 1))
		end()
		for _, e := range got.Errors() {
			if !errors.Is(e.Err, context.DeadlineExceeded) && ctx.Err() == nil && !lost {
				lost = true
				o.Note(s.lost() + ": " + s.clean(e.Err.Error()))
			}
		}
		for _, r := range got.Records() {
			if lost {
				lost = false
				o.Note(s.again("what was not committed is delivered again"))
			}
			if !room.add(ctx) {
				return nil
			}
			end := done.begin(r)
			o.Each(&Held{Message: *kafkaMessage(r), end: func(bool) error {
				end()
				room.remove()
				return nil
			}})
		}
		if time.Since(committed) > time.Second {
			committed = time.Now()
			done.commit(ctx, c, at.Topic)
		}
	}
	return nil
}

// committer knows up to where each partition is done.
type committer struct {
	mu      sync.Mutex
	pending map[int32]*partition
}

// partition is the records of a partition that are not committed: those in progress, in their order.
type partition struct {
	open      []int64 // offsets that are not done
	next      int64   // after the last one that came
	epoch     int32
	committed int64
}

// begin notes a record; the function that it returns notes that it is done.
func (c *committer) begin(r *kgo.Record) func() {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.pending[r.Partition]
	if p == nil {
		p = &partition{committed: -1}
		c.pending[r.Partition] = p
	}
	p.open, p.next, p.epoch = append(p.open, r.Offset), r.Offset+1, r.LeaderEpoch
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if i := slices.Index(p.open, r.Offset); i >= 0 {
			p.open = slices.Delete(p.open, i, i+1)
		}
	}
}

// offsets returns up to where each partition is done, where that is not committed yet.
func (c *committer) offsets() map[int32]kgo.EpochOffset {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[int32]kgo.EpochOffset{}
	for n, p := range c.pending {
		to := p.next
		if len(p.open) > 0 {
			to = slices.Min(p.open)
		}
		if to != p.committed {
			p.committed = to
			out[n] = kgo.EpochOffset{Epoch: p.epoch, Offset: to}
		}
	}
	return out
}

func (c *committer) forget(partitions []int32) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range partitions {
		delete(c.pending, n)
	}
}

// commit commits what is done.
func (c *committer) commit(ctx context.Context, client *kgo.Client, topic string) {
	if of := c.offsets(); len(of) > 0 {
		client.CommitOffsetsSync(ctx, map[string]map[int32]kgo.EpochOffset{topic: of}, nil)
	}
}
