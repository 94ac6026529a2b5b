package publish

import (
	"fmt"
	"log/slog"
	"strings"
	"sync"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/hosts"
)

// UsualMQTT is where the entrance for MQTT listens when no one says otherwise.
const UsualMQTT = "127.0.0.1:1883"

// MQTT is an open entrance for MQTT 3.1.1 and 5. It takes what is published to topics that begin with the name of a
// source; nothing can be subscribed to.
type MQTT struct {
	Address string
	Note    string // when it is not the usual address: why
	server  *mqtt.Server
}

// URL returns the address as a URL; "" of none.
func (m *MQTT) URL() string {
	if m == nil {
		return ""
	}
	return "mqtt://" + m.Address
}

// OpenMQTT listens at an address: the usual one, or a free one where that is taken, when it is "". bad is called with
// why an event is not taken: over MQTT 3.1.1 whoever published it does not hear of it.
func OpenMQTT(wanted string, project func() *plan.Project, take Taker, later func(error) bool,
	bad func(text string)) (*MQTT, error) {
	l, note, err := hosts.Listen(wanted, UsualMQTT)
	if err != nil {
		return nil, fmt.Errorf("MQTT cannot be taken at %w", err)
	}
	m := &MQTT{Address: l.Addr().String(), Note: note}
	able := mqtt.NewDefaultServerCapabilities()
	able.RetainAvailable, able.WildcardSubAvailable, able.SharedSubAvailable, able.SubIDAvailable = 0, 0, 0, 0
	able.MaximumPacketSize = largest
	able.MaximumSessionExpiryInterval = 60
	able.Compatibilities.NoInheritedPropertiesOnAck = true // clients wait in vain for what they do not expect
	m.server = mqtt.New(&mqtt.Options{Capabilities: able, Logger: slog.New(slog.DiscardHandler)})
	h := &hook{project: project, take: take, later: later, bad: bad, refused: map[refusedID]bool{}}
	if err := m.server.AddHook(h, nil); err != nil {
		_ = l.Close()
		return nil, err
	}
	if err := m.server.AddListener(listeners.NewNet("publish", l)); err != nil {
		_ = l.Close()
		return nil, err
	}
	if err := m.server.Serve(); err != nil {
		_ = m.server.Close()
		return nil, err
	}
	return m, nil
}

// Close ends the listening.
func (m *MQTT) Close() {
	if m != nil {
		_ = m.server.Close()
	}
}

// hook decides what the listener takes.
type hook struct {
	mqtt.HookBase
	project func() *plan.Project
	take    Taker
	later   func(error) bool
	bad     func(string)
	mu      sync.Mutex
	refused map[refusedID]bool // messages of QoS 2 whose refusal is to be a PUBREC
}

type refusedID struct {
	client string
	packet uint16
}

// ID implements mqtt.Hook.
func (h *hook) ID() string { return "publish" }

// Provides implements mqtt.Hook.
func (h *hook) Provides(b byte) bool {
	switch b {
	case mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPublish, mqtt.OnPacketEncode, mqtt.OnDisconnect:
		return true
	}
	return false
}

// OnConnectAuthenticate lets every program of this machine in; a source's token is asked for where it publishes.
func (h *hook) OnConnectAuthenticate(cl *mqtt.Client, pk packets.Packet) bool {
	cl.Properties.Username = pk.Connect.Password // kept until it publishes
	return true
}

// OnACLCheck lets clients publish, and subscribe to nothing.
func (h *hook) OnACLCheck(_ *mqtt.Client, _ string, write bool) bool { return write }

// OnDisconnect forgets a client.
func (h *hook) OnDisconnect(cl *mqtt.Client, _ error, _ bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id := range h.refused {
		if id.client == cl.ID {
			delete(h.refused, id)
		}
	}
}

// OnPacketEncode makes the refusal of a message of QoS 2 the packet that its client waits for.
func (h *hook) OnPacketEncode(cl *mqtt.Client, pk packets.Packet) packets.Packet {
	if pk.FixedHeader.Type == packets.Puback && pk.ReasonCode >= packets.ErrUnspecifiedError.Code {
		h.mu.Lock()
		defer h.mu.Unlock()
		if id := (refusedID{cl.ID, pk.PacketID}); h.refused[id] {
			delete(h.refused, id)
			pk.FixedHeader.Type = packets.Pubrec
		}
	}
	return pk
}

// OnPublish takes a message. Over MQTT 5 it is refused with a code that says why; over 3.1.1 there is none, and what
// is wrong is noted.
func (h *hook) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	if pk.Ignore || cl.Net.Inline {
		return pk, nil
	}
	refuse := func(code packets.Code, format string, args ...any) (packets.Packet, error) {
		why := fmt.Sprintf(format, args...)
		h.bad(fmt.Sprintf("MQTT, topic %s: %s", pk.TopicName, why))
		code.Reason = why
		if pk.FixedHeader.Qos == 2 {
			h.mu.Lock()
			h.refused[refusedID{cl.ID, pk.PacketID}] = true
			h.mu.Unlock()
		}
		if cl.Properties.ProtocolVersion != 5 || pk.FixedHeader.Qos == 0 {
			return pk, packets.CodeSuccessIgnore // it is acknowledged, and goes no further
		}
		return pk, code
	}
	p := h.project()
	name, _, _ := strings.Cut(pk.TopicName, "/")
	at := p.SourceNamed(name)
	switch {
	case at < 0:
		return refuse(packets.ErrTopicNameInvalid, "there is no source %q; a topic begins with the name of one", name)
	case !p.Sources[at].Kind.Published():
		return refuse(packets.ErrTopicNameInvalid, "%s is of kind %s and cannot be published to: %s", name,
			p.Sources[at].Kind, ways[p.Sources[at].Kind])
	case p.Sources[at].Token != "" && !hosts.Same(string(cl.Properties.Username), p.Sources[at].Token):
		return refuse(packets.ErrNotAuthorized, "%s requires its token as the password", name)
	}
	x, trace, err := message(&pk, cl.Properties.ProtocolVersion == 5, name)
	if err != nil {
		return refuse(packets.ErrPayloadFormatInvalid, "%v", err)
	}
	switch err := h.take(at, []payload.Payload{x}, trace); {
	case err != nil && h.later(err):
		return refuse(packets.ErrQuotaExceeded, "%v", err)
	case err != nil:
		return refuse(packets.ErrImplementationSpecificError, "%v", err)
	}
	return pk, packets.CodeSuccessIgnore // there is no one to pass it on to
}

// message returns the event of a message, in the MQTT binding of CloudEvents (1.0.2): over MQTT 5 in binary mode, with
// the attributes as user properties, or structured; over 3.1.1 structured as JSON. Over 5, a message without
// attributes is plain data.
func message(pk *packets.Packet, five bool, source string) (x payload.Payload, trace string, err error) {
	kind := pk.Properties.ContentType
	if !five || strings.HasPrefix(kind, event.StructuredType) {
		e, err := event.Parse(pk.Payload)
		if err != nil {
			return x, "", fmt.Errorf("it is no CloudEvent as JSON: %w", err)
		}
		trace, _ = e.Attribute("traceparent")
		return payload.Payload{Event: &e, Time: e.Time}, trace, nil
	}
	if strings.HasPrefix(kind, "application/cloudevents") {
		return x, "", fmt.Errorf("events in the format %s are not read; send %s", kind, event.StructuredType)
	}
	e := event.Event{Data: append([]byte{}, pk.Payload...)}
	version := ""
	for _, u := range pk.Properties.User {
		if u.Key == "specversion" {
			version = u.Val
		} else if !event.AttributeName(u.Key) {
			continue // a property of its own
		} else if err := e.SetAttribute(u.Key, u.Val); err != nil {
			return x, "", err
		}
		if u.Key == "traceparent" {
			trace = u.Val
		}
	}
	e.DataContentType = kind
	if version == "" {
		return plain(kind, e.Data, source), trace, nil
	}
	if name := e.Missing(); name != "" {
		return x, "", fmt.Errorf("the attribute %s is missing", name)
	}
	e.Binary = plain(kind, e.Data, source).Event.Binary
	return payload.Payload{Event: &e, Time: e.Time}, trace, nil
}
