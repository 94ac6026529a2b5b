// Package broker copies messages that pass a message broker, without taking them from who consumes them, and takes
// messages from one.
//
// [New] returns a broker of the project file. [Server.Copy] copies what passes a place; each message is a [Message],
// of which [Message.Payload] makes an event, in the bindings of CloudEvents or as plain data. [Server.Take] takes
// messages, each [Held] until it has its outcome. What differs between the brokers is in a file for each: mqtt.go,
// amqp.go, redis.go, nats.go and kafka.go.
package broker

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

// Server is a broker and how to log in to it.
type Server struct {
	Name     string // for messages
	Kind     string // mqtt, amqp, redis, nats or kafka
	Address  string // host and port
	Path     string // of the URL: the virtual host of AMQP, the database of Redis
	Secure   bool   // over TLS
	User     string
	Password string
	CA       string // a file of authorities that are trusted instead of the system's; "" for those
}

// usualPorts are the ports of each kind, without and with TLS.
var usualPorts = map[string][2]string{"mqtt": {"1883", "8883"}, "amqp": {"5672", "5671"}, "redis": {"6379", "6379"},
	"nats": {"4222", "4222"}, "kafka": {"9092", "9093"}}

// New returns the server of a broker.
func New(b *plan.Broker) (*Server, error) {
	u, err := url.Parse(b.URL)
	if err != nil {
		return nil, fmt.Errorf("broker %s: its URL cannot be read", b.Name) // the error would quote it
	}
	kind, secure := plan.BrokerKind(u.Scheme)
	s := &Server{Name: b.Name, Kind: kind, Secure: secure, Path: strings.TrimPrefix(u.Path, "/"),
		User: u.User.Username(),
		CA:   b.CA}
	if b.PasswordEnv != "" {
		if s.Password = os.Getenv(b.PasswordEnv); s.Password == "" {
			return nil, fmt.Errorf("the environment variable %s, which has the password of %s, is not set",
				b.PasswordEnv,
				b.Name)
		}
	}
	ports := usualPorts[kind]
	port := ports[0]
	if secure {
		port = ports[1]
	}
	s.Address = net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), port))
	return s, nil
}

// tls returns how to connect over TLS; nil for without.
func (s *Server) tls() (*tls.Config, error) {
	if !s.Secure {
		return nil, nil
	}
	host, _, _ := net.SplitHostPort(s.Address)
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.CA == "" {
		return c, nil
	}
	content, err := os.ReadFile(s.CA)
	if err != nil {
		return nil, fmt.Errorf("the authority of broker %s cannot be read: %w", s.Name, err)
	}
	c.RootCAs = x509.NewCertPool()
	if !c.RootCAs.AppendCertsFromPEM(content) {
		return nil, fmt.Errorf("%s has no certificate in PEM", s.CA)
	}
	return c, nil
}

// Message is a message that was copied.
type Message struct {
	At          time.Time // when it arrived here, with a monotonic reading
	Sent        time.Time // by the clock of the broker or of who sent it; the zero value where it does not say
	ID          string    // at the broker; "" where it has none
	Place       string    // topic, routing key, stream or subject
	Key         string
	Partition   int // -1 where there are none
	Headers     []event.Field
	ContentType string
	Data        []byte
	Redelivered bool
	// Lost is how many messages before this one were missed; -1 for some, of which the number is not known.
	Lost int
}

// Options are what a copy reports to.
type Options struct {
	// Each is called with each message, one at a time. An error ends the copy.
	Each func(*Message) error
	// Ready is called once copying has begun.
	Ready func()
	// Note is called with what whoever looks on should know, such as a lost connection.
	Note func(text string)
}

// Copy copies what passes a place until the context ends, which is no error, or it cannot go on. It connects again by
// itself where a connection is lost; where it cannot connect at first, the error says why.
func (s *Server) Copy(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	copiers := map[string]func(context.Context, *plan.BrokerPlace, Options) error{"mqtt": s.copyMQTT,
		"amqp":  s.copyAMQP,
		"redis": s.copyRedis, "nats": s.copyNATS, "kafka": s.copyKafka}
	err := copiers[s.Kind](ctx, at, o)
	if ctx.Err() != nil && !errors.As(err, new(*stopped)) {
		return nil
	}
	if x, ok := errors.AsType[*stopped](err); ok {
		return x.error
	}
	return err
}

// stopped is an error by Options.Each.
type stopped struct{ error }

// at names the server and where it is.
func (s *Server) at() string {
	if s.Name == s.Address {
		return s.Address
	}
	return s.Name + " (" + s.Address + ")"
}

// connecting returns why a connection was not made, in words that hold no URL.
func (s *Server) connecting(err error) error {
	at := s.at()
	unknown, host, wrongCertificate := new(x509.UnknownAuthorityError), new(x509.HostnameError),
		new(x509.CertificateInvalidError)
	var dns *net.DNSError
	var record tls.RecordHeaderError
	switch text := err.Error(); {
	case errors.As(err, unknown) || strings.Contains(text, "unknown authority"):
		return fmt.Errorf("the certificate of %s is of an authority that is not trusted; name a file with it: ca", at)
	case errors.As(err, host):
		return fmt.Errorf("the certificate of %s is not for that host: %w", at, host)
	case errors.As(err, wrongCertificate):
		return fmt.Errorf("the certificate of %s cannot be trusted: %w", at, wrongCertificate)
	case errors.As(err, &record) || strings.Contains(text, "first record does not look like a TLS handshake"):
		return fmt.Errorf("%s does not speak TLS; the scheme without it is %s", at, s.Kind)
	case errors.As(err, &dns):
		return fmt.Errorf("%s cannot be reached: there is no host of that name", at)
	case strings.Contains(text, "connection refused"):
		return fmt.Errorf("%s cannot be reached: the connection was refused; is the broker running?", at)
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded),
		strings.Contains(text, "i/o timeout"):
		return fmt.Errorf("%s cannot be reached: there was no answer in time", at)
	case strings.Contains(text, "EOF"), strings.Contains(text, "connection reset"),
		strings.Contains(text, "frame size exceeds"): // a record of TLS, read as a frame of AMQP
		hint := ""
		if !s.Secure {
			hint = "; does it want TLS?"
		}
		return fmt.Errorf("%s closed the connection before it was set up%s", at, hint)
	}
	return fmt.Errorf("%s cannot be reached: %s", at, s.clean(err.Error()))
}

// refused is that the user or the password is not accepted.
func (s *Server) refused() error {
	switch {
	case s.User == "" && s.Password == "":
		return fmt.Errorf("%s wants a login: put the user into the URL (%s://USER@HOST), and the password into an "+
			"environment variable", s.Name, s.Kind)
	case s.Password == "":
		return fmt.Errorf("%s does not accept the user %q without a password", s.Name, s.User)
	}
	return fmt.Errorf("%s does not accept the user %q with that password", s.Name, s.User)
}

// clean removes the password from what a library says.
func (s *Server) clean(text string) string {
	if s.Password == "" {
		return text
	}
	for _, p := range []string{s.Password, url.QueryEscape(s.Password), url.PathEscape(s.Password)} {
		text = strings.ReplaceAll(text, p, "…")
	}
	return text
}

// ahead is how many messages a broker sends at most before those before them are taken up: they may be large.
const ahead = 256

const (
	// connectWithin bounds a first connection.
	connectWithin = 10 * time.Second
	// again is the pause before a lost connection is made anew, at first and at most.
	againFirst, againMost = 200 * time.Millisecond, 5 * time.Second
)

// lost is the note that a connection is lost.
func (s *Server) lost() string {
	return fmt.Sprintf("the connection to %s is lost; connecting again", s.Name)
}

// again is the note that a connection is there again, and what that means.
func (s *Server) again(what string) string {
	return fmt.Sprintf("connected to %s again; %s", s.Name, what)
}

// keepUp calls connected, which lasts as long as a connection, again and again until the context ends. The first error
// before it calls up is returned. again says what a connection that is made anew means for the messages.
func (s *Server) keepUp(ctx context.Context, o Options, again string, connected func(up func()) error) error {
	pause, was := againFirst, false
	for {
		err := connected(func() {
			if was {
				o.Note(s.again(again))
			} else if o.Ready != nil {
				o.Ready()
			}
			was, pause = true, againFirst
		})
		if ctx.Err() != nil || !was || errors.As(err, new(*stopped)) || errors.As(err, new(*final)) {
			return err
		}
		if pause == againFirst {
			o.Note(s.lost())
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
		pause = min(2*pause, againMost)
	}
}

// final is an error after which it makes no sense to connect again.
type final struct{ error }

func (f *final) Unwrap() error { return f.error }

// header appends a header of a message.
func (m *Message) header(name, value string) {
	m.Headers = append(m.Headers, event.Field{Name: name, Value: value})
}

// sorted sorts headers whose order is not kept by their broker.
func (m *Message) sorted() {
	slices.SortFunc(m.Headers, func(a, b event.Field) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Value, b.Value))
	})
}
