package project

import (
	"context"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/plan"
)

const fedProject = `nightdrill: 1
brokers:
  harbour: {url: "amqps://quay@broker.example/ferries", password: {env: NIGHTDRILL_TEST_HARBOUR}}
  radio: {url: "nats://127.0.0.1"}
  log: {url: "kafka+tls://127.0.0.1"}
functions:
  crew: {start: [crew], concurrency: {max: 3}}
sources:
  orders: {kind: queue, copied_from: {broker: harbour, exchange: orders, key: "order.*"}, wires: [{to: crew}]}
  jobs: {kind: queue, taken_from: {broker: harbour, queue: jobs}, wires: [{to: crew}]}
  fixes: {kind: stream, copied_from: {broker: radio, subject: "vessels.>"}, wires: [{to: crew}]}
  plain: {kind: queue, wires: [{to: crew}]}
drills:
  watch: {calm: 30, feeds: [{source: jobs, live: 10m}, {source: fixes, live: 90s}]}
`

// Brokers, and what sources get of them, are read; passwords are in the environment alone; taking is warned of.
func TestBrokersOfAProject(t *testing.T) {
	t.Setenv("NIGHTDRILL_TEST_HARBOUR", "s3cret")
	l, err := Load(context.Background(), write(t, fedProject))
	if err != nil {
		t.Fatal(err)
	}
	p := l.Project
	if len(p.Brokers) != 3 || p.Brokers[0].Kind() != "amqp" || p.Brokers[2].Kind() != "kafka" ||
		p.Brokers[0].PasswordEnv != "NIGHTDRILL_TEST_HARBOUR" {
		t.Errorf("%+v", p.Brokers)
	}
	if s := &p.Sources[0]; s.Copied == nil || *s.Copied != (plan.BrokerPlace{Broker: "harbour", Exchange: "orders",
		Key: "order.*"}) || s.Fed() != s.Copied {
		t.Errorf("%+v", s.Copied)
	}
	if s := &p.Sources[1]; s.Taken == nil || s.Taken.Queue != "jobs" || s.Fed() != s.Taken {
		t.Errorf("%+v", s.Taken)
	}
	d := &p.Drills[0]
	if d.Calm != 30 || len(d.Feeds) != 2 || p.Span(&d.Feeds[0]).Minutes() != 10 ||
		p.FeedName(&d.Feeds[1]) != "messages of radio" {
		t.Errorf("%+v", d)
	}
	if len(l.Doubts) != 1 || !strings.Contains(l.Doubts[0].Text, "go to them and not to its other consumers") {
		t.Errorf("%v", l.Doubts)
	}
	t.Setenv("NIGHTDRILL_TEST_HARBOUR", "")
	if l, err = Load(context.Background(), write(t, fedProject)); err != nil || len(l.Doubts) != 2 ||
		!strings.Contains(l.Doubts[0].Text+l.Doubts[1].Text, "NIGHTDRILL_TEST_HARBOUR is not set") {
		t.Errorf("%v, %v", err, l.Doubts)
	}
}

// wrongBrokers are changes of the file that are refused, with why; form is that its published schema refuses them, too.
var wrongBrokers = []struct {
	from, to, want string
	form           bool
}{
	{"password: {env: NIGHTDRILL_TEST_HARBOUR}", "password: s3cret", "a password must not be in the file", true},
	{"amqps://quay@", "amqps://quay:s3cret@", "has a password, which must not be there", true},
	{"amqps://", "stomp://", `brokers of the scheme "stomp" are not known; there are mqtt, mqtts`, true},
	{"amqps://quay@broker.example/ferries", "broker.example", "is not the URL of a broker", true},
	{`url: "nats://127.0.0.1"`, "ca: x", "brokers.radio.url is missing", true},
	{`{url: "nats://127.0.0.1"}`, `{url: "nats://127.0.0.1", ca: missing.pem}`, "missing.pem cannot be read", false},
	{"broker: radio", "broker: radoi", "unknown broker \"radoi\"; did you mean radio?", false},
	{"exchange: orders, key: \"order.*\"", "queue: orders", "a queue cannot be copied", false},
	{"queue: jobs}, wires", "stream: jobs}, wires", "messages of AMQP are taken by queue, not by stream", false},
	{"subject: \"vessels.>\"", "topic: x", "copied by subject, or stream, or stream and subject, not by topic", false},
	{"subject: \"vessels.>\"", "group: x", "not by group", false},
	{", subject: \"vessels.>\"", "", "it is missing", false},
	{"taken_from: {broker: harbour, queue: jobs}", "taken_from: {broker: log, topic: jobs}", "not by topic", false},
	{"kind: queue, taken_from", "kind: stream, taken_from", "is not a setting of a source of kind stream", true},
	{"{kind: queue, wires", "{kind: queue, copied_from: {broker: radio, subject: a}, taken_from: {broker: log, " +
		"topic: a, group: b}, wires", "leave copied_from or taken_from out", false},
	{"source: jobs, live", "source: plain, live", "plain gets no messages of a broker", false},
	{"live: 10m", "live: 10m, arrive: once", "cannot be used with live", false},
	{"live: 10m", "live: 1ms", "must be at least 1s", false},
	{"calm: 30", "calm: 0", "must be at least 1", true},
	{"calm: 30", "calm: 20000", "it must be at most 10000", true},
}

// What is wrong with brokers is said where it is, without the password.
func TestBrokersThatAreWrong(t *testing.T) {
	t.Setenv("NIGHTDRILL_TEST_HARBOUR", "x")
	for _, x := range wrongBrokers {
		text := strings.Replace(fedProject, x.from, x.to, 1)
		if text == fedProject {
			t.Fatalf("%q is not in the file", x.from)
		}
		_, err := Load(context.Background(), write(t, text))
		if err != nil && strings.Contains(err.Error(), "gets no messages") &&
			!strings.Contains(x.want, "gets no messages") {
			t.Errorf("%s: it is said twice: %v", x.to, err)
		}
		if err == nil || !strings.Contains(err.Error(), x.want) || strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%s: %v\nwant %s", x.to, err, x.want)
		}
	}
}

// Where a team shares its runs is read; a password in the file is refused, and never repeated.
func TestSharedRuns(t *testing.T) {
	t.Setenv("NIGHTDRILL_TEST_SHARE", "x")
	const setting = `nightdrill: 1
runs: {keep: 5, share: {url: "postgres://ferries@db.example/drills", password: {env: NIGHTDRILL_TEST_SHARE}}}
functions: {crew: {start: [crew]}}
`
	l, err := Load(t.Context(), write(t, setting))
	if err != nil || *l.Share != (plan.Share{URL: "postgres://ferries@db.example/drills",
		PasswordEnv: "NIGHTDRILL_TEST_SHARE"}) {
		t.Fatalf("%+v, %v", l, err)
	}
	for _, x := range []struct{ from, to, want string }{
		{"ferries@db", "ferries:s3cret@db", "2:30: runs.share.url: it has a password, which must not be there"},
		{"/drills", "/drills?password=s3cret", "it has a password"},
		{"password: {env: NIGHTDRILL_TEST_SHARE}", "password: s3cret", "a password must not be in the file"},
		{"/drills", "", "it names no database"}, {"postgres:", "mysql:", "not the URL of a PostgreSQL database"},
		{"url:", "urls:", "did you mean url?"}, {"url: \"postgres://ferries@db.example/drills\", ", "",
			"runs.share.url is missing"},
	} {
		_, err := Load(t.Context(), write(t, strings.Replace(setting, x.from, x.to, 1)))
		if err == nil || !strings.Contains(err.Error(), x.want) || strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%s: %v\nwant %s", x.to, err, x.want)
		}
	}
}
