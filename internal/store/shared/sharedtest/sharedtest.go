// Package sharedtest starts a real PostgreSQL for tests, with a folder and a port of its own on loopback.
package sharedtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"nightdrill.dev/internal/live/broker/brokertest"
)

// Secret is the password of the user ferries; it must be in no message.
const Secret = "s3cret/of the office"

// Variable is the environment variable that Serve sets to Secret.
const Variable = "NIGHTDRILL_TEST_SHARE"

// Server is a PostgreSQL that a test started.
type Server struct {
	t    testing.TB
	Dir  string
	Port int
	bin  string
	cmd  *exec.Cmd
}

// Serve starts a server with TLS, the user ferries, and a database drills of theirs. dir is the folder of its data; ""
// for one of the test's.
func Serve(t testing.TB, dir string) *Server {
	t.Helper()
	if dir == "" {
		dir = t.TempDir()
	}
	s := &Server{t: t, Dir: filepath.Join(dir, "postgres"), Port: brokertest.FreePort(t), bin: programs(t)}
	t.Setenv(Variable, Secret)
	if err := os.Mkdir(s.Dir, 0o700); err != nil {
		t.Fatal(err)
	}
	brokertest.Certificates(t, s.Dir)
	s.put("password", Secret)
	s.own(s.Dir, "password", "server.key", "server.pem", "ca.pem", "")
	// its log is elsewhere: a server whose log is on a full disk ends, one whose data is goes on
	wal := t.TempDir()
	s.own(wal, "")
	data := filepath.Join(s.Dir, "data")
	if out, err := s.command("initdb", "-D", data, "-U", "ferries", "-A", "scram-sha-256", "-E", "UTF8", "--no-sync",
		"--locale=C", "-X", filepath.Join(wal, "wal"), "--pwfile", filepath.Join(s.Dir,
			"password")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	s.Start()
	t.Cleanup(s.Stop)
	if err := s.Exec("postgres", "CREATE DATABASE drills"); err != nil {
		t.Fatal(err)
	}
	return s
}

// programs returns the folder with the server; the test is skipped where there is none, and fails in CI.
func programs(t testing.TB) string {
	t.Helper()
	all, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if path, err := exec.LookPath("initdb"); err == nil {
		all = append(all, filepath.Dir(path))
	}
	for _, dir := range slices.Backward(all) {
		if _, err := os.Stat(filepath.Join(dir, "initdb")); err == nil {
			return dir
		}
	}
	if os.Getenv("NIGHTDRILL_CI") != "" {
		t.Fatal("PostgreSQL is not installed, and this test needs it in CI: apt-get install postgresql")
	}
	t.Skip("NOT TESTED: PostgreSQL is not installed: apt-get install postgresql")
	return ""
}

func (s *Server) put(name, content string) {
	if err := os.WriteFile(filepath.Join(s.Dir, name), []byte(content), 0o600); err != nil {
		s.t.Fatal(err)
	}
}

// account returns the user that the server runs as: it refuses to run as root.
func account() (uid, gid int, ok bool) {
	if os.Getuid() != 0 {
		return 0, 0, false
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return 65534, 65534, true
	}
	uid, _ = strconv.Atoi(u.Uid)
	gid, _ = strconv.Atoi(u.Gid)
	return uid, gid, true
}

// own hands files of a folder to the user that the server runs as.
func (s *Server) own(dir string, names ...string) {
	uid, gid, ok := account()
	for _, name := range names {
		path := filepath.Join(dir, name)
		if strings.HasSuffix(name, ".key") {
			if err := os.Chmod(path, 0o600); err != nil {
				s.t.Fatal(err)
			}
		}
		if ok {
			if err := os.Chown(path, uid, gid); err != nil {
				s.t.Fatal(err)
			}
		}
	}
	for at := dir; ok && at != "/tmp" && at != "/"; at = filepath.Dir(at) { // the way there
		if info, err := os.Stat(at); err == nil && at != dir {
			_ = os.Chmod(at, info.Mode()|0o011)
		}
	}
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	c := exec.Command(filepath.Join(s.bin, name), args...)
	c.Dir, c.Env = s.Dir, append(os.Environ(), "LC_ALL=C")
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if uid, gid, ok := account(); ok {
		c.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	return c
}

// Start starts the server, with further settings, and waits until it answers.
func (s *Server) Start(settings ...string) {
	s.t.Helper()
	args := []string{"-D", filepath.Join(s.Dir, "data"), "-h", "127.0.0.1", "-p", fmt.Sprint(s.Port), "-k", "",
		"-c", "ssl=on", "-c", "ssl_cert_file=" + filepath.Join(s.Dir, "server.pem"), "-c",
		"ssl_key_file=" + filepath.Join(s.Dir, "server.key"), "-c", "fsync=off"}
	for _, setting := range settings {
		args = append(args, "-c", setting)
	}
	s.cmd = s.command("postgres", args...)
	log, err := os.OpenFile(filepath.Join(s.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		s.t.Fatal(err)
	}
	defer log.Close()
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	again := time.NewTicker(20 * time.Millisecond)
	defer again.Stop()
	for end := time.Now().Add(time.Minute); ; <-again.C {
		err := s.Exec("postgres", "SELECT 1")
		if err == nil {
			return
		}
		if time.Now().After(end) {
			content, _ := os.ReadFile(filepath.Join(s.Dir, "log"))
			s.t.Fatalf("%v\n%s", err, content)
		}
	}
}

// Stop ends the server at once, and waits until it has.
func (s *Server) Stop() { s.end(syscall.SIGINT) }

// Kill ends the server as a crash would.
func (s *Server) Kill() { s.end(syscall.SIGQUIT) }

func (s *Server) end(by syscall.Signal) {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(by)
	_ = s.cmd.Wait()
	s.cmd = nil
}

// URL returns the address of a database for a user, without a password.
func (s *Server) URL(user, database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s", user, s.Port, database)
}

// Connect connects to a database as the owner.
func (s *Server) Connect(database string) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	u, err := url.Parse(s.URL("ferries", database))
	if err != nil {
		return nil, err
	}
	u.User = url.UserPassword("ferries", Secret)
	return pgx.Connect(ctx, u.String())
}

// Exec executes statements in a database as the owner.
func (s *Server) Exec(database, query string) error {
	c, err := s.Connect(database)
	if err != nil {
		return err
	}
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), query)
	return err
}
