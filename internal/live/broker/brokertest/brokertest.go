// Package brokertest starts real message brokers for tests: each with a folder and ports of its own on loopback, a user
// and a password, and TLS where the server can. Kafka is a broker in this process.
package brokertest

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	"github.com/gomodule/redigo/redis"
	"github.com/nats-io/nats.go"
	amqp "github.com/rabbitmq/amqp091-go"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"

	"nightdrill.dev/internal/core/plan"
)

// Kinds are the kinds of broker.
var Kinds = []string{"mqtt", "amqp", "redis", "nats", "kafka"}

// Secret is the password of all servers; it must be in no message.
const Secret = "s3cret/of the quay"

// Server is a broker that a test started.
type Server struct {
	t        testing.TB
	Kind     string
	Dir      string
	Port     int
	TLSPort  int
	Open     bool // without a login
	OnlyTLS  bool // where both are the same port
	cmd      *exec.Cmd
	gone     chan struct{}
	epmdPort int
	kafka    []*kfake.Cluster // without TLS, and with it
}

// programs are the servers, by kind, with what says where they are.
var programs = map[string][]string{"mqtt": {"mosquitto", "/usr/sbin/mosquitto"}, "amqp": {"rabbitmq-server",
	"/usr/lib/rabbitmq/bin/rabbitmq-server"}, "redis": {"redis-server"}, "nats": {"nats-server",
	"/usr/sbin/nats-server"}}

// program returns the path of a server; the test is skipped where it is not installed, and fails in CI.
func program(t testing.TB, kind string) string {
	t.Helper()
	for i := len(programs[kind]) - 1; i >= 0; i-- {
		if path, err := exec.LookPath(programs[kind][i]); err == nil {
			return path
		}
	}
	if os.Getenv("NIGHTDRILL_CI") != "" {
		t.Fatalf("%s is not installed, and this test needs it in CI: apt-get install %[1]s", programs[kind][0])
	}
	t.Skipf("NOT TESTED: %s is not installed: apt-get install %[1]s", programs[kind][0])
	return ""
}

// FreePort returns a port that nothing listens at.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// Serve starts a broker with the user quay, its password, and TLS.
func Serve(t testing.TB, kind string) *Server {
	t.Helper()
	return serve(t, kind, false)
}

// ServeOpen is Serve of Kafka without a login.
func ServeOpen(t testing.TB) *Server {
	t.Helper()
	return serve(t, "kafka", true)
}

func serve(t testing.TB, kind string, open bool) *Server {
	t.Helper()
	s := &Server{Open: open, t: t, Kind: kind, Dir: t.TempDir(), Port: FreePort(t), TLSPort: FreePort(t)}
	if kind != "kafka" {
		program(t, kind)
	}
	Certificates(t, s.Dir)
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

func (s *Server) write(name, content string) string {
	path := filepath.Join(s.Dir, name)
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		s.t.Fatal(err)
	}
	return path
}

// Start starts the server, with what it kept.
func (s *Server) Start() {
	s.t.Helper()
	file := func(name string) string { return filepath.Join(s.Dir, name) }
	var args, env []string
	switch s.Kind {
	case "mqtt":
		if _, err := os.Stat(file("passwords")); err != nil {
			s.write("passwords", "quay:"+Secret+"\n")
			if out, err := exec.Command("mosquitto_passwd", "-U", file("passwords")).CombinedOutput(); err != nil {
				s.t.Fatalf("%v: %s", err, out)
			}
		}
		args = []string{"-c", s.write("mosquitto.conf", fmt.Sprintf("user root\nallow_anonymous false\n"+
			"password_file %s\nlistener %d 127.0.0.1\nlistener %d 127.0.0.1\ncertfile %s\nkeyfile %s\n",
			file("passwords"), s.Port, s.TLSPort, file("server.pem"), file("server.key")))}
	case "amqp":
		s.write("plugins", "[].\n")
		s.write("rabbitmq.conf", fmt.Sprintf("listeners.tcp.default = 127.0.0.1:%d\nlisteners.ssl.default = "+
			"127.0.0.1:%d\n"+
			"ssl_options.certfile = %s\nssl_options.keyfile = %s\nssl_options.verify = verify_none\n"+
			"default_user = quay\ndefault_pass = %s\nlog.console = true\nlog.console.level = error\nlog.file = false\n",
			s.Port, s.TLSPort, file("server.pem"), file("server.key"), Secret))
		env = []string{"HOME=" + s.Dir, "RABBITMQ_NODENAME=nd" + fmt.Sprint(s.Port) + "@localhost",
			"RABBITMQ_MNESIA_BASE=" + file("db"), "RABBITMQ_LOG_BASE=" + file("log"),
			"RABBITMQ_CONFIG_FILE=" + file("rabbitmq.conf"), "RABBITMQ_ENABLED_PLUGINS_FILE=" + file("plugins"),
			fmt.Sprint("ERL_EPMD_PORT=", s.epmd()), "ERL_EPMD_ADDRESS=127.0.0.1",
			fmt.Sprint("RABBITMQ_DIST_PORT=", FreePort(s.t)),
			"RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS=-kernel inet_dist_use_interface {127,0,0,1}"}
	case "redis":
		args = []string{s.write("redis.conf", fmt.Sprintf("bind 127.0.0.1\nport %d\ndir %s\nappendonly "+
			"yes\ntls-port %d\n"+
			"tls-cert-file %s\ntls-key-file %s\ntls-auth-clients no\nuser default off\nuser quay on >%s ~* &* +@all\n",
			s.Port, s.Dir, s.TLSPort, file("server.pem"), file("server.key"), s.Password()))}
	case "nats":
		args = []string{"-c", s.write("nats.conf", fmt.Sprintf("listen: \"127.0.0.1:%d\"\njetstream {store_dir: %q}\n"+
			"authorization {user: quay, password: %q}\ntls {cert_file: %q, key_file: %q}\n%s\n", s.Port, file("js"),
			Secret, file("server.pem"), file("server.key"), map[bool]string{false: "allow_non_tls: true"}[s.OnlyTLS]))}
		s.TLSPort = s.Port
	case "kafka":
		pair, err := tls.LoadX509KeyPair(file("server.pem"), file("server.key"))
		if err != nil {
			s.t.Fatal(err)
		}
		s.kafka = nil
		for port, more := range map[int]kfake.Opt{s.Port: kfake.DataDir(file("kafka")),
			s.TLSPort: kfake.TLS(&tls.Config{Certificates: []tls.Certificate{pair}})} {
			options := []kfake.Opt{kfake.Ports(port), kfake.NumBrokers(1), kfake.SeedTopics(3, "scans"), more}
			if !s.Open {
				options = append(options, kfake.EnableSASL(), kfake.Superuser("PLAIN", "quay", Secret))
			}
			cluster, err := kfake.NewCluster(options...)
			if err != nil {
				s.t.Fatal(err)
			}
			s.kafka = append(s.kafka, cluster)
		}
		return
	}
	s.cmd = exec.Command(program(s.t, s.Kind), args...)
	s.cmd.Env = append(os.Environ(), env...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var out bytes.Buffer
	s.cmd.Stdout, s.cmd.Stderr = &out, &out
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	gone := make(chan struct{})
	s.gone = gone
	go func(c *exec.Cmd) {
		_ = c.Wait()
		close(gone)
	}(s.cmd)
	for end := time.Now().Add(2 * time.Minute); ; {
		if c, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port)); err == nil {
			if c.Close(); s.Kind != "redis" || !s.loading() {
				return
			}
		}
		select {
		case <-gone:
			s.t.Fatalf("%s did not start: %s", s.Kind, out.String())
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(end) {
			s.t.Fatalf("%s never listened", s.Kind)
		}
	}
}

// loading reports whether a Redis that listens still reads what it kept.
func (s *Server) loading() bool {
	c, err := redis.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port), redis.DialUsername("quay"),
		redis.DialPassword(s.Password()))
	if err == nil {
		defer c.Close()
		_, err = c.Do("PING")
	}
	return err != nil && strings.HasPrefix(err.Error(), "LOADING")
}

// epmd starts the name server of Erlang, which RabbitMQ would leave behind, and returns its port.
func (s *Server) epmd() int {
	if s.epmdPort > 0 {
		return s.epmdPort
	}
	s.epmdPort = FreePort(s.t)
	c := exec.Command("epmd", "-port", fmt.Sprint(s.epmdPort), "-address", "127.0.0.1")
	if err := c.Start(); err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	return s.epmdPort
}

// Stop ends the server at once.
func (s *Server) Stop() {
	for _, c := range s.kafka {
		c.Close()
	}
	if s.cmd != nil {
		_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
		<-s.gone
		s.cmd = nil
	}
}

// Password returns the password of the user quay.
func (s *Server) Password() string {
	if s.Kind == "redis" {
		return strings.ReplaceAll(Secret, " ", "_")
	}
	return Secret
}

// Certificates writes an authority and a certificate of 127.0.0.1.
func Certificates(t testing.TB, dir string) {
	t.Helper()
	put := func(name, kind string, der []byte) {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	of := func(n int64, authority bool) *x509.Certificate {
		return &x509.Certificate{SerialNumber: big.NewInt(n), NotBefore: time.Now().Add(-time.Hour),
			NotAfter: time.Now().Add(time.Hour), IsCA: authority, BasicConstraintsValid: true,
			KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature, IPAddresses: []net.IP{net.IPv4(127, 0, 0,
				1)}}
	}
	authority, key := of(1, true), newKey(t)
	der, err := x509.CreateCertificate(rand.Reader, authority, authority, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	put("ca.pem", "CERTIFICATE", der)
	own := newKey(t)
	if der, err = x509.CreateCertificate(rand.Reader, of(2, false), authority, &own.PublicKey, key); err != nil {
		t.Fatal(err)
	}
	put("server.pem", "CERTIFICATE", der)
	if der, err = x509.MarshalECPrivateKey(own); err != nil {
		t.Fatal(err)
	}
	put("server.key", "EC PRIVATE KEY", der)
}

func newKey(t testing.TB) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// Place is where messages pass in the tests.
func (s *Server) Place() *plan.BrokerPlace {
	return map[string]*plan.BrokerPlace{"mqtt": {Topic: "quay/+/scans"}, "amqp": {Exchange: "scans", Key: "quay.#"},
		"redis": {Stream: "scans"}, "nats": {Subject: "quay.>"}, "kafka": {Topic: "scans"}}[s.Kind]
}

// TakePlace is where messages are taken from in the tests: what is published goes there, too.
func (s *Server) TakePlace() *plan.BrokerPlace {
	return map[string]*plan.BrokerPlace{"mqtt": {Topic: "quay/+/scans"}, "amqp": {Queue: "jobs"},
		"redis": {Stream: "scans", Group: "crew"}, "nats": {Stream: "QUAY", Group: "crew"},
		"kafka": {Topic: "scans", Group: "crew"}}[s.Kind]
}

// Declare makes the place.
func (s *Server) Declare() {
	s.t.Helper()
	var err error
	switch s.Kind {
	case "amqp":
		c, ch := s.AMQP()
		defer c.Close()
		if err = ch.ExchangeDeclare("scans", "topic", true, false, false, false, nil); err == nil {
			if _, err = ch.QueueDeclare("jobs", true, false, false, false, nil); err == nil {
				err = ch.QueueBind("jobs", "quay.#", "scans", false, nil)
			}
		}
	case "redis":
		c := s.Redis()
		defer c.Close()
		if _, err = c.Do("XADD", "scans", "*", "old", "one"); err == nil {
			if _, err = c.Do("RPUSH", "work", "x"); err == nil {
				_, err = c.Do("XGROUP", "CREATE", "scans", "crew", "$")
			}
		}
	case "nats":
		c := s.NATS()
		defer c.Close()
		js, _ := c.JetStream()
		_, err = js.AddStream(&nats.StreamConfig{Name: "KEPT", Subjects: []string{"kept.>"}})
		if err == nil {
			_, err = js.AddStream(&nats.StreamConfig{Name: "WORK", Subjects: []string{"work.>"},
				Retention: nats.WorkQueuePolicy})
		}
		if err == nil {
			if _, err = js.AddStream(&nats.StreamConfig{Name: "QUAY", Subjects: []string{"quay.>"}}); err == nil {
				_, err = js.AddConsumer("QUAY", &nats.ConsumerConfig{Durable: "crew", AckPolicy: nats.AckExplicitPolicy,
					AckWait: 3 * time.Second})
			}
		}
	}
	if err != nil {
		s.t.Fatal(err)
	}
}

// AMQP connects to the server, over which it may take a while.
func (s *Server) AMQP() (*amqp.Connection, *amqp.Channel) {
	s.t.Helper()
	again := time.NewTicker(50 * time.Millisecond)
	defer again.Stop()
	for end := time.Now().Add(time.Minute); ; <-again.C {
		c, err := amqp.DialConfig(fmt.Sprint("amqp://127.0.0.1:", s.Port), amqp.Config{Vhost: "/",
			SASL: []amqp.Authentication{&amqp.PlainAuth{Username: "quay", Password: Secret}}})
		if err == nil {
			ch, err := c.Channel()
			if err == nil {
				return c, ch
			}
		}
		if time.Now().After(end) {
			s.t.Fatal(err)
		}
	}
}

// Redis connects to the server.
func (s *Server) Redis() redis.Conn {
	s.t.Helper()
	c, err := redis.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port), redis.DialUsername("quay"),
		redis.DialPassword(s.Password()))
	if err != nil {
		s.t.Fatal(err)
	}
	return c
}

// NATS connects to the server.
func (s *Server) NATS() *nats.Conn {
	s.t.Helper()
	c, err := nats.Connect(fmt.Sprint("nats://127.0.0.1:", s.Port), nats.UserInfo("quay", Secret))
	if err != nil {
		s.t.Fatal(err)
	}
	return c
}

// Kafka returns a client of the server.
func (s *Server) Kafka() (*kgo.Client, error) {
	return kgo.NewClient(kgo.SeedBrokers(fmt.Sprint("127.0.0.1:", s.Port)),
		kgo.SASL(plain.Auth{User: "quay", Pass: Secret}.AsMechanism()))
}

// Publish sends messages with the numbers from..to-1: the number as JSON, a key of k0 to k2, and attributes of a
// CloudEvent where the protocol has room for them.
func (s *Server) Publish(from, to int) {
	s.t.Helper()
	check := func(err error) {
		if err != nil {
			s.t.Helper()
			s.t.Fatal(err)
		}
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	attributes := func(prefix string, n int) map[string]string {
		return map[string]string{prefix + "specversion": "1.0", prefix + "id": fmt.Sprint("e", n),
			prefix + "source": "/gate",
			prefix + "type":   "scan", prefix + "shift": "night"}
	}
	body := func(n int) []byte { return fmt.Appendf(nil, `{"n":%d}`, n) }
	switch s.Kind {
	case "mqtt":
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.Port))
		check(err)
		c := paho.NewClient(paho.ClientConfig{Conn: conn, ClientID: fmt.Sprint("gate", from)})
		_, err = c.Connect(ctx, &paho.Connect{KeepAlive: 30, ClientID: fmt.Sprint("gate", from), CleanStart: true,
			UsernameFlag: true, Username: "quay", PasswordFlag: true, Password: []byte(Secret)})
		check(err)
		for n := from; n < to; n++ {
			p := &paho.PublishProperties{ContentType: "application/json"}
			for k, v := range attributes("", n) {
				p.User = append(p.User, paho.UserProperty{Key: k, Value: v})
			}
			_, err := c.Publish(ctx, &paho.Publish{QoS: 1, Topic: "quay/west/scans", Payload: body(n), Properties: p})
			check(err)
		}
		check(c.Disconnect(&paho.Disconnect{}))
	case "amqp":
		c, ch := s.AMQP()
		defer c.Close()
		check(ch.Confirm(false))
		for n := from; n < to; n++ {
			h := amqp.Table{}
			for k, v := range attributes("cloudEvents:", n) {
				h[k] = v
			}
			d, err := ch.PublishWithDeferredConfirmWithContext(ctx, "scans", "quay.west", false, false, amqp.Publishing{
				ContentType: "application/json", Body: body(n), Headers: h, MessageId: fmt.Sprint("m", n),
				Timestamp: time.Now()})
			check(err)
			d.Wait()
		}
	case "redis":
		c := s.Redis()
		defer c.Close()
		for n := from; n < to; n++ {
			args := redis.Args{"scans", "*", "data", body(n), "content-type", "application/json"}
			for k, v := range attributes("ce_", n) {
				args = args.Add(k, v)
			}
			_, err := c.Do("XADD", args...)
			check(err)
		}
	case "nats":
		c := s.NATS()
		defer c.Close()
		for n := from; n < to; n++ {
			m := nats.NewMsg("quay.west")
			m.Data = body(n)
			m.Header.Set("content-type", "application/json")
			for k, v := range attributes("ce-", n) {
				m.Header.Set(k, v)
			}
			check(c.PublishMsg(m))
		}
		check(c.Flush())
	case "kafka":
		c, err := s.Kafka()
		check(err)
		defer c.Close()
		for n := from; n < to; n++ {
			r := &kgo.Record{Topic: "scans", Key: fmt.Appendf(nil, "k%d", n%3), Value: body(n),
				Headers: []kgo.RecordHeader{{Key: "content-type", Value: []byte("application/json")}}}
			for k, v := range attributes("ce_", n) {
				r.Headers = append(r.Headers, kgo.RecordHeader{Key: k, Value: []byte(v)})
			}
			check(c.ProduceSync(ctx, r).FirstErr())
		}
	}
}
