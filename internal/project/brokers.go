package project

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/plan"
)

// broker reads a message broker.
func (l *loader) broker(name string, all *object) {
	o := all.child(name, "url", "password", "ca")
	b := plan.Broker{Name: name, URL: o.need("url", "amqp://127.0.0.1")}
	defer func() { l.p.Brokers = append(l.p.Brokers, b) }()
	if why := plan.CheckBrokerURL(b.URL); b.URL != "" && why != "" {
		l.wrong(o.fields["url"], "%s: %s", o.at("url"), why)
		b.URL = "" // it is in no message
	}
	b.PasswordEnv = l.passwordEnv(o, strings.ToUpper(strings.ReplaceAll(name, "-", "_"))+"_PASSWORD", "the broker")
	if b.CA = o.text("ca", ""); b.CA != "" {
		if !filepath.IsAbs(b.CA) {
			b.CA = filepath.Join(l.dir, filepath.FromSlash(b.CA))
		}
		if _, err := os.Stat(b.CA); err != nil {
			l.wrong(o.fields["ca"], "%s: %s cannot be read: %v", o.at("ca"), b.CA, Cause(err))
		}
	}
}

// passwordEnv reads the environment variable that has a password, such as example; what is connected to with it.
func (l *loader) passwordEnv(o *object, example, what string) (name string) {
	n := o.fields["password"]
	if n == nil {
		return ""
	}
	if text := l.follow(n); text != nil && text.Type().String() != "Mapping" &&
		text.Type().String() != "MappingValue" {
		l.wrong(n, "%s: a password must not be in the file; put it into an environment variable and name that, "+
			"such as {env: %s}", o.at("password"), example)
		return ""
	}
	c := o.child("password", "env")
	if c == nil {
		return ""
	}
	if name = c.need("env", example); name != "" && os.Getenv(name) == "" {
		l.doubts = append(l.doubts, l.mistake(c.fields["env"], "%s: the environment variable %s is not set, so "+
			"%s cannot be connected to", c.at("env"), name, what))
	}
	return name
}

// fed reads from which broker a source gets messages.
func (l *loader) fed(s *plan.Source, o *object) {
	read := func(key string, check func(p *plan.BrokerPlace, kind string) string) *plan.BrokerPlace {
		c := o.child(key, "broker", "topic", "exchange", "key", "queue", "stream", "subject", "group")
		if c == nil {
			return nil
		}
		p := &plan.BrokerPlace{Broker: c.need("broker", "harbour"), Topic: c.text("topic", ""),
			Exchange: c.text("exchange", ""), Key: c.text("key", ""), Queue: c.text("queue", ""),
			Stream: c.text("stream", ""), Subject: c.text("subject", ""), Group: c.text("group", "")}
		at := l.p.BrokerNamed(p.Broker)
		l.unfed[s.Name] = true // until it turns out that it is right
		if at < 0 {
			if p.Broker != "" {
				l.wrong(c.fields["broker"], "%s: unknown broker %q%s", c.at("broker"), p.Broker,
					didYouMean(p.Broker, brokerNames(&l.p)))
			}
			return nil
		}
		kind := l.p.Brokers[at].Kind()
		if kind == "" {
			return nil // its URL is wrong, which is said
		}
		if why := check(p, kind); why != "" {
			l.wrong(c.node, "%s: %s", o.at(key), why)
			return nil
		}
		delete(l.unfed, s.Name)
		return p
	}
	s.Copied = read("copied_from", func(p *plan.BrokerPlace, kind string) string { return p.CheckCopy(kind, "") })
	s.Taken = read("taken_from", func(p *plan.BrokerPlace, kind string) string { return p.CheckTake(kind, "") })
	if s.Copied != nil && s.Taken != nil {
		l.wrong(o.keys["taken_from"], "%s: a source copies messages, or takes them; leave copied_from or "+
			"taken_from out",
			o.at("taken_from"))
	}
	if s.Taken != nil {
		l.doubts = append(l.doubts, l.mistake(o.keys["taken_from"], "%s: while functions run here, %s",
			o.at("taken_from"),
			l.takesFrom(s.Taken)))
	}
}

// live reads for how long a feed gets messages of its source's broker.
func (l *loader) live(d *plan.Drill, f *plan.Feed, o *object, n ast.Node) {
	f.Live = o.duration("live", 0, time.Second)
	for _, key := range []string{"payloads", "arrive", "retained", "clock", "faults"} {
		if k := o.keys[key]; k != nil {
			l.wrong(k, "%s cannot be used with live: the events are what comes from the broker", o.at(key))
		}
	}
	switch {
	case d.Cold != nil:
		l.wrong(n, "%s cannot be used with cold_starts, which send one event after the other", o.at("live"))
	case f.Source >= 0 && l.unfed[l.p.Sources[f.Source].Name]: // which is said there
	case f.Source >= 0 && l.p.Sources[f.Source].Fed() == nil:
		l.wrong(n, "%s: %s gets no messages of a broker; give the source copied_from or taken_from", o.at("live"),
			l.p.Sources[f.Source].Name)
	case f.Source >= 0:
		d.Feeds = append(d.Feeds, *f)
	}
}

// takesFrom returns what taking from a broker does.
func (l *loader) takesFrom(p *plan.BrokerPlace) string {
	at := l.p.BrokerNamed(p.Broker)
	switch kind := l.p.Brokers[at].Kind(); kind {
	case "amqp":
		return fmt.Sprintf("messages of %s go to them and not to its other consumers; failed ones are rejected, "+
			"and go to its dead-letter exchange if it has one", p.Queue)
	case "mqtt":
		return "MQTT cannot reject: failed messages are acknowledged once a copy is kept; other subscribers get theirs"
	case "kafka":
		return fmt.Sprintf("messages go to them and not to other consumers of the group %s; Kafka cannot reject: "+
			"failed ones are committed once a copy is kept", p.Group)
	case "redis":
		return fmt.Sprintf("messages go to them and not to other consumers of the group %s; Redis cannot reject: "+
			"failed ones are acknowledged once a copy is kept", p.Group)
	default:
		return fmt.Sprintf("messages go to them and not to other readers of the durable consumer %s; failed ones are "+
			"terminated", p.Group)
	}
}

func brokerNames(p *plan.Project) (out []string) {
	for i := range p.Brokers {
		out = append(out, p.Brokers[i].Name)
	}
	return out
}

// Broker returns the broker of a URL, or else the one of that name of a project. The error has no password.
func Broker(p *plan.Project, content string) (*plan.Broker, error) {
	if u, err := url.Parse(content); err == nil && u.Scheme != "" && u.Host != "" {
		if why := plan.CheckBrokerURL(content); why != "" {
			return nil, errors.New(why)
		}
		return &plan.Broker{Name: u.Host, URL: content}, nil
	}
	if at := p.BrokerNamed(content); at >= 0 {
		b := p.Brokers[at]
		return &b, nil
	}
	if len(p.Brokers) == 0 {
		return nil, fmt.Errorf("unknown broker %q: the project file has none; give a URL, such as amqp://127.0.0.1",
			content)
	}
	return nil, fmt.Errorf("unknown broker %q%s", content, didYouMean(content, brokerNames(p)))
}
