package plan

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// Broker is a message broker that the project knows.
type Broker struct {
	Name        string
	URL         string // without a password
	PasswordEnv string // the environment variable that has the password; "" for none
	CA          string // path of a file with authorities that are trusted; "" for those of the system
}

// BrokerPlace is a place at a broker at which messages pass.
type BrokerPlace struct {
	Broker string // name
	// which of these there are depends on the kind of broker
	Topic    string // MQTT: a filter; Kafka
	Exchange string // AMQP, with
	Key      string // its binding key
	Queue    string // AMQP: messages are taken from it
	Stream   string // Redis; NATS: of JetStream
	Subject  string // NATS
	Group    string // Redis, Kafka, NATS: the consumer group, or durable consumer, that takes
}

// brokerSchemes are the schemes of URLs of brokers, with their kinds, and whether they are over TLS.
var brokerSchemes = map[string]struct {
	kind   string
	secure bool
}{"mqtt": {"mqtt", false}, "mqtts": {"mqtt", true}, "amqp": {"amqp", false}, "amqps": {"amqp", true},
	"redis": {"redis", false}, "rediss": {"redis", true}, "nats": {"nats", false}, "nats+tls": {"nats", true},
	"kafka": {"kafka", false}, "kafka+tls": {"kafka", true}}

// BrokerSchemes lists the schemes of URLs of brokers.
const BrokerSchemes = "mqtt, mqtts, amqp, amqps, redis, rediss, nats, nats+tls, kafka, kafka+tls"

// BrokerKind returns the kind of broker of a URL's scheme, and whether it is over TLS; "" for an unknown one.
func BrokerKind(scheme string) (kind string, secure bool) {
	s := brokerSchemes[strings.ToLower(scheme)]
	return s.kind, s.secure
}

// copied are the names of what says where messages pass that are copied, of each kind of broker: one of the lists.
var copied = map[string][][]string{"mqtt": {{"topic"}}, "amqp": {{"exchange", "key"}}, "redis": {{"stream"}},
	"nats": {{"subject"}, {"stream"}, {"stream", "subject"}}, "kafka": {{"topic"}}}

// taken are the names of what says where messages are taken from, likewise.
var taken = map[string][][]string{"mqtt": {{"topic"}}, "amqp": {{"queue"}}, "redis": {{"stream", "group"}},
	"nats": {{"stream", "group"}, {"stream", "subject", "group"}}, "kafka": {{"topic", "group"}}}

// Given returns the names of what a place says.
func (p *BrokerPlace) Given() (out []string) {
	for _, x := range []struct{ name, value string }{{"topic", p.Topic}, {"exchange", p.Exchange}, {"key", p.Key},
		{"queue", p.Queue}, {"stream", p.Stream}, {"subject", p.Subject}, {"group", p.Group}} {
		if x.value != "" {
			out = append(out, x.name)
		}
	}
	return out
}

// CheckCopy returns why messages cannot be copied from a place at a broker of a kind, in which names have a prefix;
// "" if they can.
func (p *BrokerPlace) CheckCopy(kind, prefix string) string {
	if kind == "amqp" && p.Queue != "" {
		return fmt.Sprintf("%squeue: a queue cannot be copied, since each of its messages goes to one consumer alone; "+
			"copy the exchange that it is bound to (%[1]sexchange, %[1]skey), or take from it", prefix)
	}
	return p.check(kind, prefix, copied[kind], "copied")
}

// CheckTake is CheckCopy for messages that are taken.
func (p *BrokerPlace) CheckTake(kind, prefix string) string {
	return p.check(kind, prefix, taken[kind], "taken")
}

func (p *BrokerPlace) check(kind, prefix string, wanted [][]string, done string) string {
	given := p.Given()
	if kind == "amqp" && p.Exchange != "" && p.Key == "" {
		given = append(given, "key") // "" is the key of fanout exchanges
	}
	var ways []string
	for _, want := range wanted {
		if slices.Equal(sorted(given), sorted(want)) {
			return ""
		}
		ways = append(ways, prefix+strings.Join(want, " and "+prefix))
	}
	if len(given) == 0 {
		return fmt.Sprintf("messages of %s are %s by %s; it is missing", kindNames[kind], done, strings.Join(ways,
			", or "))
	}
	return fmt.Sprintf("messages of %s are %s by %s, not by %s", kindNames[kind], done, strings.Join(ways, ", or "),
		prefix+strings.Join(given, " and "+prefix))
}

func sorted(all []string) []string { return slices.Sorted(slices.Values(all)) }

var kindNames = map[string]string{"mqtt": "MQTT", "amqp": "AMQP", "redis": "Redis", "nats": "NATS", "kafka": "Kafka"}

// KindName returns a kind of broker as it is written.
func KindName(kind string) string { return kindNames[kind] }

// passwordInside is what is wrong with a URL that has a password, and what helps.
const passwordInside = "it has a password, which must not be there; put it into an environment variable and name that"

// CheckBrokerURL returns why a URL is not one of a broker, in words without its password; "" if it is.
func CheckBrokerURL(content string) string {
	u, err := url.Parse(content)
	if err != nil || u.Scheme == "" || u.Hostname() == "" {
		return "it is not the URL of a broker, such as amqp://127.0.0.1"
	}
	if kind, _ := BrokerKind(u.Scheme); kind == "" {
		return fmt.Sprintf("brokers of the scheme %q are not known; there are %s", u.Scheme, BrokerSchemes)
	}
	if _, has := u.User.Password(); has {
		return passwordInside + " (password: {env: NAME}, or --password-env NAME)"
	}
	return ""
}

// BrokerNamed returns the place of a broker among those of the project, or -1.
func (p *Project) BrokerNamed(name string) int {
	return slices.IndexFunc(p.Brokers, func(b Broker) bool { return b.Name == name })
}

// FedFrom returns the broker that a source gets messages from, and where; nil for none.
func (p *Project) FedFrom(s *Source) (*Broker, *BrokerPlace) {
	at := s.Fed()
	if at == nil {
		return nil, nil
	}
	return &p.Brokers[p.BrokerNamed(at.Broker)], at // it was looked up when the file was read
}

// Fed returns where a source gets messages from; nil for nowhere.
func (s *Source) Fed() *BrokerPlace {
	if s.Taken != nil {
		return s.Taken
	}
	return s.Copied
}

// Kind returns a broker's kind: mqtt, amqp, redis, nats or kafka; "" of an unknown one.
func (b *Broker) Kind() string {
	scheme, _, _ := strings.Cut(b.URL, "://")
	kind, _ := BrokerKind(scheme)
	return kind
}
