package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"nightdrill.dev/internal/core/plan"
)

// bounded is how many messages the queue that copies are in holds at most: the broker is not to be filled.
const bounded = 100_000

// dialAMQP connects and opens a channel.
func (s *Server) dialAMQP(ctx context.Context) (*amqp.Connection, *amqp.Channel, error) {
	secure, err := s.tls()
	if err != nil {
		return nil, nil, &final{err}
	}
	scheme := "amqp"
	if secure != nil {
		scheme = "amqps"
	}
	vhost, err := url.PathUnescape(s.Path)
	if err != nil || vhost == "" {
		vhost = "/"
	}
	user, password := s.User, s.Password
	if user == "" && password == "" {
		user, password = "guest", "guest" // what brokers let in from their own machine
	}
	c, err := amqp.DialConfig(scheme+"://"+s.Address, amqp.Config{Vhost: vhost, TLSClientConfig: secure,
		Heartbeat: 10 * time.Second, SASL: []amqp.Authentication{&amqp.PlainAuth{Username: user, Password: password}},
		Properties: amqp.Table{"connection_name": "nightdrill"},
		Dial: func(network, address string) (net.Conn, error) {
			d := net.Dialer{Timeout: connectWithin}
			conn, err := d.DialContext(ctx, network, address)
			if err == nil { // the library takes it away once the connection is open
				err = conn.SetDeadline(time.Now().Add(connectWithin))
			}
			return conn, err
		}})
	var refused *amqp.Error
	switch {
	case errors.As(err, &refused) && refused.Code == amqp.AccessRefused:
		return nil, nil, s.refused()
	case errors.As(err, &refused) && refused.Code == amqp.NotAllowed:
		return nil, nil, fmt.Errorf("%s has no virtual host %q, or the user %q may not use it", s.Name, vhost, user)
	case err != nil:
		return nil, nil, s.connecting(err)
	}
	ch, err := c.Channel()
	if err != nil {
		_ = c.Close()
		return nil, nil, s.connecting(err)
	}
	return c, ch, nil
}

// copyAMQP binds a queue of its own to an exchange: other queues get what they get.
func (s *Server) copyAMQP(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	lost, was := 0, false
	return s.keepUp(ctx, o, "what passed meanwhile is missing", func(up func()) error {
		c, ch, err := s.dialAMQP(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		q, err := ch.QueueDeclare("", false, true, true, false, amqp.Table{"x-max-length": int32(bounded),
			"x-overflow": "drop-head"})
		if err != nil {
			return s.missing(err, at, "")
		}
		if err := ch.QueueBind(q.Name, at.Key, at.Exchange, false, nil); err != nil {
			return s.missing(err, at, at.Exchange)
		}
		if err := ch.Qos(ahead, 0, false); err != nil {
			return s.connecting(err)
		}
		came, err := ch.Consume(q.Name, "", false, true, false, false, nil)
		if err != nil {
			return s.missing(err, at, "")
		}
		if was { // the queue of the connection before is gone
			lost = -1
		}
		was = true
		up()
		look := time.NewTicker(time.Second)
		defer look.Stop()
		full := false
		for {
			select {
			case <-ctx.Done():
				return nil
			case d, ok := <-came:
				if !ok {
					return errors.New("the connection was lost")
				}
				m := amqpMessage(&d)
				m.Lost, lost = lost, 0
				if err := o.Each(m); err != nil {
					return &stopped{err}
				}
				// all that were delivered so far at once, now and then
				if d.DeliveryTag%(ahead/4) == 0 || len(came) == 0 {
					if err := d.Ack(true); err != nil {
						return s.connecting(err)
					}
				}
			case <-look.C:
				if now, err := ch.QueueDeclarePassive(q.Name, false, true, true, false, nil); err == nil {
					if was := full; now.Messages >= bounded-1000 {
						if full, lost = true, -1; !was {
							o.Note(fmt.Sprintf("more comes than can be written: the broker keeps %d messages, and "+
								"drops those before them", bounded))
						}
					} else {
						full = false
					}
				}
			}
		}
	})
}

// missing returns why a queue or an exchange cannot be used.
func (s *Server) missing(err error, at *plan.BrokerPlace, exchange string) error {
	var e *amqp.Error
	if !errors.As(err, &e) {
		return s.connecting(err)
	}
	switch {
	case e.Code == amqp.NotFound && exchange != "":
		return &final{fmt.Errorf("%s has no exchange %q", s.Name, exchange)}
	case e.Code == amqp.NotFound:
		return &final{fmt.Errorf("%s has no queue %q", s.Name, at.Queue)}
	case e.Code == amqp.AccessRefused:
		return &final{fmt.Errorf("%s does not let the user %q do that: %s", s.Name, s.User, s.clean(e.Reason))}
	case e.Code == amqp.PreconditionFailed || e.Code == amqp.ResourceLocked:
		return &final{fmt.Errorf("%s does not allow it: %s", s.Name, s.clean(e.Reason))}
	}
	return fmt.Errorf("%s: %s", s.Name, s.clean(e.Reason))
}

// amqpMessage returns a message of AMQP 0-9-1.
func amqpMessage(d *amqp.Delivery) *Message {
	m := &Message{At: time.Now(), Sent: d.Timestamp, ID: d.MessageId, Place: d.RoutingKey, Partition: -1,
		ContentType: d.ContentType, Data: d.Body, Redelivered: d.Redelivered}
	for name, value := range d.Headers {
		switch v := value.(type) {
		case string:
			m.header(name, v)
		case []byte:
			m.header(name, string(v))
		case bool, int8, int16, int32, int64, int, uint8, float32, float64:
			m.header(name, fmt.Sprint(v))
		case time.Time:
			m.header(name, v.UTC().Format(time.RFC3339Nano))
		}
	}
	if d.CorrelationId != "" {
		m.header("correlation-id", d.CorrelationId)
	}
	if d.ReplyTo != "" {
		m.header("reply-to", d.ReplyTo)
	}
	m.sorted()
	return m
}

// takeAMQP consumes a queue. It never asks for a message again: brokers deliver that at once, without an end.
func (s *Server) takeAMQP(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	return s.keepUp(ctx, o.options(), heldAgain, func(up func()) error {
		c, ch, err := s.dialAMQP(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		if _, err := ch.QueueDeclarePassive(at.Queue, true, false, false, false, nil); err != nil {
			return s.missing(err, at, "")
		}
		if err := ch.Qos(max(o.Most, 1), 0, false); err != nil {
			return s.connecting(err)
		}
		came, err := ch.Consume(at.Queue, o.Name, false, false, false, false, nil)
		if err != nil {
			return s.missing(err, at, "")
		}
		up()
		for {
			select {
			case <-ctx.Done():
				return nil
			case d, ok := <-came:
				if !ok {
					return errors.New("the connection was lost")
				}
				o.Each(&Held{Message: *amqpMessage(&d), end: func(failed bool) error {
					if failed {
						return d.Reject(false)
					}
					return d.Ack(false)
				}})
			}
		}
	})
}
