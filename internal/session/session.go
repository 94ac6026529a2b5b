package session

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/front"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/publish"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/session/catalog"
)

// Session is the session while the program is open: functions are started on
// demand by the same rules as in a drill, the front listens, and what changes in
// the project's files is taken up.
type Session struct {
	*Workspace
	Front     *front.Front // nil if it was not wanted, or could not be opened
	listing   sync.Mutex   // held while the catalog is read
	relists   atomic.Int32 // changes since relistSoon began to read it
	catalog   *catalog.Catalog
	offers    []*catalog.Item // payloads that are in no list of the project, latest first
	stale     bool            // the project's files have changed
	unread    bool            // saved payloads have changed
	looks     int             // previews that were offered
	recording *frontRecording // of the front; nil for none

	beside    map[string]*front.Front // addresses of variants, by name
	entrance  *publish.Entrance       // where events are published; nil for nowhere
	mqtt      *publish.MQTT           // likewise over MQTT
	feeds     brokerFeeds
	copying   *copying           // of a broker; nil for none
	fed       bool               // sources are fed from brokers
	letters   letters            // guarded by mu
	resent    map[sentAgain]bool // of firings that are not over; guarded by mu
	turn      sync.Mutex         // held while the runner is exchanged
	asking    int                // requests at the front that have not been answered
	closed    bool               // requests at the front wait: the project is being read again
	opened    *sync.Cond         // of mu: that is over
	mu        sync.Mutex
	driver    *runner.Follower
	end       context.CancelFunc
	over      chan struct{} // closed when the runner has ended
	paused    string        // why nothing can be fired, while a drill has the functions
	watcher   *build.Watcher
	trouble   string // why files are not watched, or the front does not listen
	wrong     error  // the errors of a project file that was changed
	apart     error  // why there are no stand-ins for upstreams; nil where there are
	firings   []*Firing
	numbers   int
	gone      gone
	brought   map[*build.Code]int // the versions that something was done for
	waiting   int                 // published events that are not done
	counts    map[string]int      // firings of each payload text
	held      map[string]bool     // functions that are held for a debugger
	env       map[string][]string // values that were set for this session, by function
	again     bool                // the last event fired by hand is fired again after each change
	last      *Order
	checks    Checks
	checked   chan struct{} // closed when the last round of checks is over; nil before the first
	endChecks context.CancelFunc
	loading   sync.Mutex // held while the project is read again
	changes   chan struct{}
	ticking   bool            // schedules fire automatically
	wind      chan struct{}   // the schedules are to be read again
	life      context.Context // until Close
	die       context.CancelFunc
}

// Stand opens the session: nothing is started before it is requested. The front
// listens at an address, the usual one when it is "".
func (d *Workspace) Stand(listen string) (*Session, error) {
	s := d.stand("")
	var err error
	if s.Front, err = front.Open(listen, s.Entrances.Hosts, s.recorded); err != nil {
		if listen != "" {
			s.Close()
			return nil, err
		}
		s.trouble = err.Error()
	}
	s.openVariants()
	s.serveObjects()
	s.Watch()
	s.fed = true
	s.feed()
	go s.keepTime()
	return s, nil
}

// StandQuietly opens the session without the front, and without looking at files:
// for one command. The object store, where there is any, listens at a free port.
func (d *Workspace) StandQuietly() *Session {
	if len(catalog.Buckets(d.Loaded)) > 0 && d.Objects.Address() == "" {
		_ = d.Objects.Listen(cmp.Or(d.Entrances.Objects, "127.0.0.1:0")) // what needs it says that it is not there
	}
	return d.stand("127.0.0.1:0")
}

// stand opens the session; publish is where events are published, "" for the usual address.
func (d *Workspace) stand(publish string) *Session {
	s := &Session{Workspace: d, counts: map[string]int{}, resent: map[sentAgain]bool{}, held: map[string]bool{},
		env:     map[string][]string{},
		brought: map[*build.Code]int{}, changes: make(chan struct{}, 1), wind: make(chan struct{}, 1)}
	s.opened = sync.NewCond(&s.mu)
	s.life, s.die = context.WithCancel(context.Background())
	s.catalog = catalog.Read(d.Loaded, d.Objects, nil)
	s.openPublishing(publish)
	d.renewed, d.works.Renewed = s.renew, s.renew
	s.begin()
	return s
}

// begin starts a runner.
func (s *Session) begin() {
	config := runner.Config{ID: newID(time.Now()), Log: s.Log, Objects: s.Objects, Publish: s.entrance.URL(),
		MQTT: s.mqtt.URL(), Upstreams: s.openNeighbours(), BindAt: s.bindAt(), Hosts: s.Entrances.Hosts}
	for _, c := range s.works.Codes {
		if env := s.env[c.Function().Name]; len(env) > 0 {
			s.override(c, env)
		}
		f := c.Function()
		config.Code = append(config.Code, runner.Code{Function: &f, Version: s.labelOf(c)})
	}
	driver := runner.Follow(s.Whole, config)
	ctx, end := context.WithCancel(context.Background())
	over := make(chan struct{})
	s.driver, s.end, s.over = driver, end, over
	go func() {
		defer close(over)
		driver.Run(ctx)
		if err := config.Upstreams.Close(); err != nil {
			s.Log.Add(time.Now(), "upstreams", "upstreams", logs.Note, err.Error())
		}
	}()
	for name := range s.held {
		if fn := s.Whole.FunctionNamed(name); fn >= 0 && s.held[name] {
			driver.Hold(fn, true)
		}
	}
}

// Changes returns a channel that receives when something may look different.
func (s *Session) Changes() <-chan struct{} { return s.changes }

func (s *Session) changed() {
	select {
	case s.changes <- struct{}{}:
	default:
	}
}

// Close ends everything that the session began.
func (s *Session) Close() {
	s.starve()
	s.die()
	if s.Front != nil {
		s.Front.Close()
	}
	s.closeVariants()
	s.entrance.Close()
	s.mqtt.Close()
	_, _ = s.StopCopying()
	_, _ = s.StopRecording() // every exchange was written already
	s.turn.Lock()            // the project may just be read again; it is not any more after this
	defer s.turn.Unlock()
	s.letGo(true)
}

// letGo ends the driver, and with it every instance; the files are not looked at
// any more either, where that is wanted.
func (s *Session) letGo(blind bool) {
	s.mu.Lock()
	w, end, over := s.watcher, s.end, s.over
	if blind {
		s.watcher = nil
	}
	s.mu.Unlock()
	if blind && w != nil {
		w.Close()
	}
	end()
	<-over
}

// Pause stops the session's functions, so that a drill can have them, and returns when no process
// of theirs is left. Resume ends the pause.
func (s *Session) Pause(why string) {
	s.stopChecks()
	s.starve() // a drill leaves brokers alone
	s.turn.Lock()
	defer s.turn.Unlock()
	s.mu.Lock()
	s.paused = why
	s.mu.Unlock()
	s.letGo(false)
	s.changed()
}

// Resume takes the functions up again after Pause.
func (s *Session) Resume() {
	s.mu.Lock()
	s.paused = ""
	s.begin()
	s.mu.Unlock()
	s.relist()
	s.bringAll()
	if s.fed {
		s.feed()
	}
	s.changed()
}

// Watch watches the files of the functions and of the project.
func (s *Session) Watch() {
	var patterns []string
	for i := range s.Whole.Functions {
		patterns = append(patterns, s.Whole.Functions[i].Watch...)
	}
	patterns = append(patterns, catalog.SavedDir+"/**/*")
	for _, folder := range s.Folders {
		if rel, err := filepath.Rel(s.Dir, folder); err == nil {
			patterns = append(patterns, filepath.ToSlash(rel)+"/**/*")
		}
	}
	w, err := build.Watch(s.Dir, patterns, s.Files)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.trouble = "files cannot be watched, so changes are found at the next firing: " + err.Error()
		return
	}
	s.watcher = w
	s.works.SetWatched()
	go w.Follow(s.touch, s.bringAll)
}

// touch takes note that a file has changed.
func (s *Session) touch(path string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.recording != nil && path == s.recording.file {
		return // it is ours; StopRecording comes back to it
	}
	if s.copying != nil && path == filepath.Join(s.Dir, catalog.SavedDir, s.copying.state.Name+".ndjson") {
		return // likewise
	}
	now := time.Now()
	for _, c := range s.works.Codes {
		c.Touch(now)
	}
	if path == "" || path == filepath.Join(s.Dir, project.File) || slices.Contains(s.Files, path) ||
		slices.ContainsFunc(s.Folders, func(f string) bool {
			return strings.HasPrefix(path,
				f+string(filepath.Separator))
		}) {
		s.stale = true
	}
	if strings.HasPrefix(path, filepath.Join(s.Dir, catalog.SavedDir)) {
		s.unread = true
	}
}

// bringAll takes up what has changed: the project, the saved payloads, the code
// of the functions; and fires again where that is wanted.
func (s *Session) bringAll() {
	s.mu.Lock()
	stale, unread, paused := s.stale, s.unread, s.paused != ""
	s.mu.Unlock()
	defer s.changed()
	if paused {
		return // Resume comes back to it
	}
	if stale && s.reload() {
		s.fireAgain()
		s.checkAgain(nil)
		return
	}
	if unread {
		s.mu.Lock()
		s.unread = false
		checking := s.checks.On
		s.mu.Unlock()
		if checking {
			s.relist()
		} else {
			s.relistSoon()
		}
	}
	any := false
	var renewed []string
	for _, c := range s.workshop().Codes {
		if c.Number() == 0 {
			continue
		}
		_, failure := c.Update(s.life)
		s.mu.Lock()
		did := c.Number() > max(s.brought[c], 1) // by a firing, too
		s.brought[c] = c.Number()
		s.mu.Unlock()
		if did || failure != nil {
			p := s.Plan()
			renewed = append(renewed, p.Functions[p.Of[c.Fn]].Name)
		}
		any = any || did || failure != nil && c.New(failure)
		s.changed()
	}
	if any {
		s.fireAgain()
	}
	if any || unread {
		s.checkAgain(renewed)
	}
}

// workshop returns the works of the project as it is now.
func (s *Session) workshop() *build.Builder {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.works
}

// renew replaces the instances of a function whose code or settings changed.
func (s *Session) renew(c *build.Code) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c.Fn >= len(s.works.Codes) || s.works.Codes[c.Fn] != c {
		return // the project was read again meanwhile
	}
	f := c.Function()
	s.driver.Renew(c.Fn, &f, s.labelOf(c))
}

// labelOf names a version, and says when values were set for this session.
func (s *Session) labelOf(c *build.Code) string {
	label := c.Label()
	if label == "" {
		return "" // it gets its name when it is started for the first time
	}
	if len(s.env[s.Whole.Functions[c.Fn].Name]) > 0 {
		label += " +env"
	}
	return label
}

// reload reads the project again. One that is wrong is refused: the old one
// goes on, and its errors are shown.
func (s *Session) reload() bool {
	s.loading.Lock()
	defer s.loading.Unlock()
	l, err := project.Load(s.life, s.given) // it may take long
	s.turn.Lock()
	defer s.turn.Unlock()
	if s.life.Err() != nil {
		return false // it was closed meanwhile
	}
	s.mu.Lock()
	if s.paused != "" {
		s.mu.Unlock()
		return false // Resume comes back to it
	}
	s.stale = false
	s.wrong = err
	if err != nil {
		s.mu.Unlock()
		return false
	}
	s.closed = true
	s.mu.Unlock()
	defer s.reopen()
	s.letEnd()
	s.letGo(true)
	s.works.Services.Close()
	store, err := s.Objects.Reopen(catalog.Buckets(l))
	if err != nil {
		store = s.Objects // the one before goes on
	}
	items := catalog.Read(l, store, nil)
	s.mu.Lock()
	s.take(l, store)
	clear(s.brought)
	s.catalog, s.offers = items, nil
	s.begin()
	s.mu.Unlock()
	s.openVariants()
	s.serveObjects()
	s.Watch()
	if s.fed {
		go s.feed() // messages that wait for the project must be let in first
	}
	s.rewind()
	return true
}

// mostToEnd is how long what is in flight may take to end before the project is read
// again.
const mostToEnd = 2 * time.Second

// letEnd waits until nothing is in flight in the session, for a moment at most: saving the
// project's file shall not break off what someone has just asked.
func (s *Session) letEnd() {
	look := time.NewTicker(2 * time.Millisecond)
	defer look.Stop()
	for end := time.Now().Add(mostToEnd); time.Now().Before(end); <-look.C {
		s.mu.Lock()
		open := s.asking
		for _, l := range s.driver.Stats() {
			open += l.InFlight
		}
		s.mu.Unlock()
		if open == 0 || s.life.Err() != nil {
			return
		}
	}
}

// reopen lets requests continue that waited at the front.
func (s *Session) reopen() {
	s.mu.Lock()
	s.closed = false
	s.mu.Unlock()
	s.opened.Broadcast()
}

// enter counts a request at the front in, once the project is not being read again.
func (s *Session) enter() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.closed {
		s.opened.Wait()
	}
	s.asking++
}

func (s *Session) leave() {
	s.mu.Lock()
	s.asking--
	s.mu.Unlock()
}

// Wrong returns the errors of the project file, while the one before them goes on.
func (s *Session) Wrong() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.wrong
}

// Plan returns the project as it is now. It changes when its file does.
func (s *Session) Plan() *plan.Expanded {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Whole
}

// Trouble returns what of the session does not work, or "".
func (s *Session) Trouble() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.trouble
}

// State is what there is to know of a function before it is asked anything.
type State struct {
	Name    string
	Version string
	Doing   string // "building", "preparing", or ""
	Failure *build.Failure
	Look    engine.Stats
	Now     clock.Time
	Address string // where its newest instance listens; "" without one
	Away    string // where an attached function is
	Held    bool
	Env     []string // names that were set for this session
}

// States returns the state of every function and variant, and why nothing can be
// fired, if so.
func (s *Session) States() (out []State, paused string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	looks := s.driver.Stats()
	now := s.driver.At(time.Now())
	for i, c := range s.works.Codes {
		f, doing, failure := c.State()
		x := State{Name: f.Name, Version: s.driver.Version(i), Doing: doing, Failure: failure, Look: looks[i],
			Now: now, Held: s.held[f.Name]}
		if f.Transport == plan.Attach {
			x.Away = f.Address
		}
		if x.Look.Ready > 0 {
			x.Address = s.driver.Address(i)
		}
		if t := s.driver.Trouble(i); x.Failure == nil && t.Text != "" && !t.Started {
			x.Failure = &build.Failure{Text: f.Name + " " + t.Text, Lines: t.Lines}
		}
		for _, set := range s.env[f.Name] {
			name, _, _ := strings.Cut(set, "=")
			x.Env = append(x.Env, name)
		}
		out = append(out, x)
	}
	return out, s.paused
}

// Hold keeps a function from timeouts and idle stops while someone looks at
// it in a debugger, or lets it go again.
func (s *Session) Hold(name string, held bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.held[name] = held
	if fn := s.Whole.FunctionNamed(name); fn >= 0 {
		s.driver.Hold(fn, held)
	}
}

// SetEnv sets a value of a function's environment for this session, or takes it
// back to what the project says. Its instances are replaced.
func (s *Session) SetEnv(name, variable, value string, set bool) error {
	if variable == "" || strings.ContainsAny(variable, "=\x00 ") || variable == "PORT" {
		return fmt.Errorf("%q cannot be set: not a name of an environment variable, or one of Night Drill's own",
			variable)
	}
	s.mu.Lock()
	fn := s.Whole.FunctionNamed(name)
	if fn < 0 {
		s.mu.Unlock()
		return fmt.Errorf("unknown function %q", name)
	}
	env := slices.DeleteFunc(slices.Clone(s.env[name]),
		func(e string) bool { return strings.HasPrefix(e, variable+"=") })
	if set {
		env = append(env, variable+"="+value)
	}
	s.env[name] = env
	c := s.works.Codes[fn]
	s.override(c, env)
	f := c.Function()
	s.driver.Renew(fn, &f, s.labelOf(c))
	s.mu.Unlock()
	s.fireAgain()
	s.checkAgain([]string{name})
	s.changed()
	return nil
}

// override sets values in a function's environment, in place of the project's.
func (s *Session) override(c *build.Code, set []string) {
	env := s.Whole.Functions[c.Fn].Env
	for _, e := range set {
		name, value, _ := strings.Cut(e, "=")
		env = project.SetEnv(env, name, value)
	}
	c.SetEnv(env)
}

// Env returns a function's environment as it is set, sorted.
func (s *Session) Env(name string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	fn := s.Whole.FunctionNamed(name)
	if fn < 0 {
		return nil
	}
	return s.works.Codes[fn].Function().Env
}

// Again reports whether the last firing by hand comes again after each change.
func (s *Session) Again() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.again
}

// SetAgain sets whether the last event is fired again after each change.
func (s *Session) SetAgain(again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.again = again
}

func (s *Session) fireAgain() {
	s.mu.Lock()
	again, last := s.again, s.last
	s.mu.Unlock()
	if !again || last == nil {
		return
	}
	o := *last
	if item := s.Find(o.Item.Key()); item != nil {
		o.Item = item
		o.Origin = AfterChange
		s.Fire(o)
	}
}

// Find returns an item by its key, or nil.
func (s *Session) Find(key string) *catalog.Item {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.catalog.Find(key)
}

func (s *Session) answerOf(f *Firing) front.Answer {
	v := s.Look(f)
	if v.Refused != nil {
		return front.Plain(http.StatusBadGateway, "%s", v.Refused.Text)
	}
	outcome := v.Outcome()
	try := v.Last()
	switch {
	case outcome == engine.Rejected:
		a := front.Plain(http.StatusTooManyRequests, "no instance is free, and the limits allow no more")
		a.Header.Set("Retry-After", "1")
		return a
	case try != nil && try.Result == engine.Timeout:
		return front.Plain(http.StatusGatewayTimeout, "%s %s", s.NameOf(try), try.Why)
	case try != nil && try.Reply != nil && try.Reply.Status > 0 && try.Reply.Result == engine.OK:
		return front.Answer{Status: try.Reply.Status, Header: try.Reply.Header, Body: try.Reply.Body}
	case try != nil && try.Why == "":
		return front.Plain(http.StatusBadGateway, "%s did not reply: %v, such as when the project is read again "+
			"meanwhile", s.NameOf(try), try.Result)
	case try != nil:
		return front.Plain(http.StatusBadGateway, "%s %s", s.NameOf(try), try.Why)
	}
	return front.Plain(http.StatusBadGateway, "the event was %v", outcome)
}

// NameOf names the function of an attempt.
func (s *Session) NameOf(t *runner.Attempt) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if int(t.Function) < len(s.Whole.Functions) {
		return s.Whole.Functions[t.Function].Name
	}
	return "the function"
}
