package publish

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	old "github.com/eclipse/paho.mqtt.golang"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

// taken is what an entrance took.
type taken struct {
	mu    sync.Mutex
	all   []payload.Payload
	trace string
	bad   []string
	err   error
}

func (x *taken) take(_ int, all []payload.Payload, trace string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.err == nil {
		x.all, x.trace = append(x.all, all...), trace
	}
	return x.err
}

func (x *taken) last() (n int, id, kind, data, trace string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if n = len(x.all); n > 0 {
		e := x.all[n-1].Event
		id, kind, data = e.ID, e.DataContentType, string(e.Data)
	}
	return n, id, kind, data, x.trace
}

func openedMQTT(t *testing.T) (*MQTT, *taken) {
	t.Helper()
	x := &taken{}
	p := &plan.Project{Sources: []plan.Source{{Name: "scans", Kind: plan.Queue}, {Name: "fares", Kind: plan.HTTP},
		{Name: "guarded", Kind: plan.Queue, Token: "abc"}}}
	m, err := OpenMQTT("127.0.0.1:0", func() *plan.Project { return p }, x.take,
		func(err error) bool { return errors.Is(err, errLater) }, func(text string) {
			x.mu.Lock()
			defer x.mu.Unlock()
			x.bad = append(x.bad, text)
		})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Close)
	return m, x
}

const structured = `{"specversion":"1.0","id":"s1","source":"/gate","type":"scan","data":{"n":1}}`

// Over MQTT 5 events arrive in both modes and at every quality of service, and what cannot be taken is refused with
// its reason.
func TestMQTT5(t *testing.T) {
	m, x := openedMQTT(t)
	conn, err := net.Dial("tcp", m.Address)
	if err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithTimeout(t.Context(), 2*time.Minute)
	defer end()
	c := paho.NewClient(paho.ClientConfig{Conn: conn})
	if ack, err := c.Connect(ctx, &paho.Connect{ClientID: "desk", KeepAlive: 30, CleanStart: true}); err != nil ||
		ack.ReasonCode != 0 {
		t.Fatal(err, ack)
	}
	user := func(pairs ...string) (out paho.UserProperties) {
		for i := 0; i < len(pairs); i += 2 {
			out.Add(pairs[i], pairs[i+1])
		}
		return out
	}
	binary := user(
		"specversion",
		"1.0",
		"id",
		"b1",
		"source",
		"/gate",
		"type",
		"scan",
		"deck",
		"car",
		"traceparent",
		"00-a",
	)
	n := 0
	for qos := range byte(3) {
		for _, p := range []*paho.Publish{
			{Topic: "scans/gate-1", Payload: []byte("hello"), Properties: &paho.PublishProperties{
				ContentType: "text/plain", User: binary}},
			{Topic: "scans", Payload: []byte(structured), Properties: &paho.PublishProperties{
				ContentType: "application/cloudevents+json; charset=utf-8"}},
			{Topic: "scans/a/b", Payload: []byte("plain"), Properties: &paho.PublishProperties{
				ContentType: "text/plain"}},
		} {
			p.QoS = qos
			if _, err := c.Publish(ctx, p); err != nil {
				t.Fatalf("QoS %d: %v", qos, err)
			}
			n++
			for {
				got, id, kind, data, trace := x.last()
				if got == n {
					if p.Properties.User != nil &&
						(id != "b1" || kind != "text/plain" || data != "hello" || trace != "00-a") {
						t.Errorf("%s %s %s, %q", id, kind, data, trace)
					}
					break
				}
				if ctx.Err() != nil || got > n {
					t.Fatalf("QoS %d: %d of %d arrived", qos, got, n)
				}
			}
		}
		if qos == 0 {
			continue // what is refused is not said
		}
		for _, c5 := range []struct {
			p    *paho.Publish
			code byte
		}{
			{&paho.Publish{Topic: "scanz", Payload: []byte("x")}, 0x90},
			{&paho.Publish{Topic: "fares", Payload: []byte("x")}, 0x90},
			{&paho.Publish{Topic: "guarded", Payload: []byte("x")}, 0x87},
			{&paho.Publish{Topic: "scans", Payload: []byte("{"), Properties: &paho.PublishProperties{
				ContentType: "application/cloudevents+json"}}, 0x99},
			{&paho.Publish{Topic: "scans", Payload: []byte("{"), Properties: &paho.PublishProperties{
				User: user("specversion", "1.0", "id", "1")}}, 0x99},
		} {
			c5.p.QoS = qos
			reply, err := c.Publish(ctx, c5.p)
			if reply == nil || reply.ReasonCode != c5.code {
				t.Errorf("QoS %d, %s: %+v, %v", qos, c5.p.Topic, reply, err)
			}
		}
	}
	if got, _, _, _, _ := x.last(); got != n {
		t.Errorf("%d arrived, %d were well", got, n)
	}
	all := []paho.SubscribeOptions{{Topic: "#"}}
	if sub, err := c.Subscribe(ctx, &paho.Subscribe{Subscriptions: all}); err == nil && sub.Reasons[0] < 0x80 {
		t.Error("it can be subscribed to")
	}
}

// Over MQTT 3.1.1 events are structured; a bad one is acknowledged, noted, and does not arrive.
func TestMQTT311(t *testing.T) {
	m, x := openedMQTT(t)
	c := old.NewClient(old.NewClientOptions().AddBroker("tcp://" + m.Address).SetClientID("old").SetProtocolVersion(4).
		SetPassword("abc").SetUsername("x").SetConnectTimeout(30 * time.Second))
	done := func(token old.Token) {
		t.Helper()
		if !token.WaitTimeout(30*time.Second) || token.Error() != nil {
			t.Fatal(token.Error())
		}
	}
	done(c.Connect())
	defer c.Disconnect(0)
	for qos := range byte(3) {
		done(c.Publish("scans/gate", qos, false, structured))
		done(c.Publish("scans/gate", qos, false, "no event"))
		done(c.Publish("guarded", qos, false, structured))
	}
	for end := time.Now().Add(2 * time.Minute); ; {
		n, id, _, data, _ := x.last()
		x.mu.Lock()
		bad := len(x.bad)
		x.mu.Unlock()
		if n == 6 && bad == 3 && id == "s1" && data == `{"n":1}` {
			break
		}
		if time.Now().After(end) {
			t.Fatal(fmt.Sprint(n, bad, id, data, x.bad))
		}
	}
}
