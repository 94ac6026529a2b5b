package broker

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"

	"nightdrill.dev/internal/core/plan"
)

// session is for how long an MQTT server keeps what comes while the connection is lost, in seconds.
const session = 300

// copyMQTT subscribes to a topic over MQTT 5. What is retained is left out: it was sent before.
func (s *Server) copyMQTT(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	var id [8]byte
	_, _ = rand.Read(id[:]) // it never fails
	return s.subscribe(ctx, at, o, subscription{id: "nightdrill-" + hex.EncodeToString(id[:]), clean: true},
		func(m *Message, _ func() error) error { return o.Each(m) })
}

// takeMQTT subscribes likewise and acknowledges what is done. A server takes acknowledgements in the order of the
// messages, so that one that is held holds up those after it.
func (s *Server) takeMQTT(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	room := newHeld(o.Most) // servers send a few more than they were asked for
	return s.subscribe(ctx, at, o.options(), subscription{id: o.Name, most: uint16(min(max(o.Most, 1), 65535))},
		func(m *Message, ack func() error) error {
			if room.add(ctx) {
				o.Each(&Held{Message: *m, end: func(bool) error {
					defer room.remove()
					return ack()
				}})
			}
			return nil
		})
}

// subscription is how a topic is subscribed to.
type subscription struct {
	id    string // of the client
	clean bool   // nothing is kept for it when the program ends
	most  uint16 // messages that are held at once, which are acknowledged one by one; 0 where that is done at once
}

// subscribe calls each with what comes to a topic, one at a time.
func (s *Server) subscribe(ctx context.Context, at *plan.BrokerPlace, o Options, how subscription,
	each func(m *Message, ack func() error) error) error {
	secure, err := s.tls()
	if err != nil {
		return err
	}
	scheme := "mqtt"
	if secure != nil {
		scheme = "mqtts"
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	type received struct {
		m   *Message
		ack func() error
	}
	messages := make(chan received, max(int(how.most), ahead))
	var was, lost atomic.Bool
	failed := make(chan error, 1)
	fail := func(err error) {
		select {
		case failed <- err:
		default:
		}
	}
	c := autopaho.ClientConfig{ServerUrls: []*url.URL{{Scheme: scheme, Host: s.Address}}, TlsCfg: secure, KeepAlive: 20,
		CleanStartOnInitialConnection: how.clean, SessionExpiryInterval: session, ConnectTimeout: connectWithin,
		ConnectPacketBuilder: func(c *paho.Connect, _ *url.URL) (*paho.Connect, error) {
			if c.Properties == nil {
				c.Properties = &paho.ConnectProperties{}
			}
			most := cmp.Or(how.most, ahead)
			c.Properties.ReceiveMaximum = &most
			return c, nil
		},
		ReconnectBackoff: autopaho.NewExponentialBackoff(againFirst, againMost, againFirst, 2),
		ConnectUsername:  s.User, ConnectPassword: []byte(s.Password),
		OnConnectError: func(err error) {
			if was.Load() {
				return // it is tried again
			}
			var refused *autopaho.ConnackError
			if errors.As(err, &refused) && (refused.ReasonCode == 0x86 || refused.ReasonCode == 0x87) {
				fail(s.refused())
				return
			}
			if refused != nil && refused.ReasonCode == 0x84 || refused == nil && s.olderMQTT(ctx, secure) {
				fail(fmt.Errorf("%s does not speak MQTT 5, and an older one has no room for attributes of events",
					s.at()))
				return
			}
			fail(s.connecting(err))
		},
		OnConnectionUp: func(m *autopaho.ConnectionManager, ack *paho.Connack) {
			again := was.Load()
			if again && ack.SessionPresent {
				o.Note(s.again("it kept what came meanwhile"))
				return
			}
			if again { // before a message may come
				lost.Store(true)
			}
			r, err := m.Subscribe(ctx, &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: at.Topic, QoS: 1,
				RetainHandling: 2}}})
			switch {
			case err != nil && r != nil && len(r.Reasons) > 0 && r.Reasons[0] == 0x87:
				fail(fmt.Errorf("%s does not let the user %q read %s", s.Name, s.User, at.Topic))
			case err != nil && r != nil && len(r.Reasons) > 0 && r.Reasons[0] == 0x8f:
				fail(fmt.Errorf("%s does not take %q as a topic filter", s.Name, at.Topic))
			case err != nil && !again:
				fail(fmt.Errorf("%s did not accept the subscription to %s: %s", s.Name, at.Topic, s.clean(err.Error())))
			case err != nil:
				o.Note(fmt.Sprintf("%s did not accept the subscription anew: %s", s.Name, s.clean(err.Error())))
			case again:
				o.Note(s.again("what passed meanwhile is missing"))
			default:
				was.Store(true)
				if o.Ready != nil {
					o.Ready()
				}
			}
		},
		ClientConfig: paho.ClientConfig{ClientID: how.id, EnableManualAcknowledgment: how.most > 0,
			OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(r paho.PublishReceived) (bool, error) {
				m := mqttMessage(r.Packet)
				if lost.Swap(false) {
					m.Lost = -1
				}
				select {
				case messages <- received{m, func() error { return r.Client.Ack(r.Packet) }}:
				case <-ctx.Done():
				}
				return true, nil
			}},
			OnClientError: func(error) {
				o.Note(s.lost())
			},
			OnServerDisconnect: func(*paho.Disconnect) {
				o.Note(fmt.Sprintf("%s ended the connection; connecting again", s.Name))
			},
		}}
	manager, err := autopaho.NewConnection(ctx, c)
	if err != nil {
		return s.connecting(err)
	}
	defer func() {
		ending, end := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer end()
		_ = manager.Disconnect(ending) // a session ends by itself, too
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-failed:
			return err
		case x := <-messages:
			if err := each(x.m, x.ack); err != nil {
				return &stopped{err}
			}
		}
	}
}

// mqttMessage returns a message of MQTT 5.
func mqttMessage(p *paho.Publish) *Message {
	m := &Message{At: time.Now(), Place: p.Topic, Partition: -1, Data: p.Payload, Redelivered: p.Duplicate()}
	if x := p.Properties; x != nil {
		m.ContentType = x.ContentType
		for _, u := range x.User {
			m.header(u.Key, u.Value)
		}
	}
	return m
}

// olderMQTT reports whether a server refuses MQTT 5 in the way of MQTT 3.1.1 (§3.2.2.3), which a client of MQTT 5 takes
// for a packet that was cut off.
func (s *Server) olderMQTT(ctx context.Context, secure *tls.Config) bool {
	ctx, stop := context.WithTimeout(ctx, connectWithin)
	defer stop()
	dial := new(net.Dialer).DialContext
	if secure != nil {
		dial = (&tls.Dialer{Config: secure}).DialContext
	}
	c, err := dial(ctx, "tcp", s.Address)
	if err != nil {
		return false
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(connectWithin)) // of a connection that is there it cannot fail
	var answer [4]byte
	_, err = c.Write([]byte("\x10\x0d\x00\x04MQTT\x05\x02\x00\x0a\x00\x00\x00"))
	if err == nil {
		_, err = io.ReadFull(c, answer[:])
	}
	return err == nil && answer == [4]byte{0x20, 2, 0, 1}
}
