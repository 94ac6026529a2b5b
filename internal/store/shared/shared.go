// Package shared keeps the runs of a team in PostgreSQL, in the schema nightdrill of a database.
//
// Open connects and brings the tables up to date; Push adds runs, each in a transaction of its own, List and Pull read
// them. Several programs may do so at once: of two that push the same run, one adds it.
package shared

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/store"
)

// Version is the version of the tables that this program writes.
const Version = 1

// steps are the changes of the tables, each from the version before it.
var steps = [Version]string{`
CREATE TABLE nightdrill.runs (
	id       text PRIMARY KEY,
	project  text NOT NULL,
	drill    text NOT NULL,
	began    timestamptz NOT NULL,
	finished boolean NOT NULL,
	length   bigint NOT NULL,  -- ns
	machine  text NOT NULL,    -- described in words
	code     text NOT NULL,    -- the commit, and whether it was changed since
	branch   text NOT NULL,
	name     text NOT NULL,    -- given by the user
	note     text NOT NULL,    -- written by the user
	bytes    bigint NOT NULL,
	main     jsonb,            -- the main figures
	head     text NOT NULL,    -- JSON
	pushed   timestamptz NOT NULL DEFAULT now(),
	pushed_by text NOT NULL DEFAULT current_user
);
CREATE INDEX ON nightdrill.runs (project, drill, began);
CREATE TABLE nightdrill.blocks (
	run  text NOT NULL REFERENCES nightdrill.runs(id) ON DELETE CASCADE,
	kind text NOT NULL,
	seq  integer NOT NULL,
	data bytea NOT NULL,
	PRIMARY KEY (run, kind, seq)
);
CREATE TABLE nightdrill.blobs (
	run    text NOT NULL REFERENCES nightdrill.runs(id) ON DELETE CASCADE,
	number integer NOT NULL,
	data   bytea NOT NULL,
	PRIMARY KEY (run, number)
);
`}

// migrating is the number of the lock under which tables are changed.
const migrating = 0x6e696768

// Store is a connection to a shared store. It is for one goroutine.
type Store struct {
	conn *pgconn.PgConn
	at   string // the server and the database, for messages
}

// connecting bounds the time that connecting may take, and waiting that for another's lock.
const (
	connecting = 10 * time.Second
	waiting    = "15s"
)

// Open connects to a shared store, and makes or changes its tables where they are older than this program.
func Open(ctx context.Context, s *plan.Share) (*Store, error) {
	config, err := pgconn.ParseConfig(s.URL)
	if err != nil { // the URL was checked before
		return nil, fmt.Errorf("runs.share.url: %w", err)
	}
	if s.PasswordEnv != "" {
		if config.Password = os.Getenv(s.PasswordEnv); config.Password == "" {
			return nil, fmt.Errorf("the environment variable %s is not set; it has the password of the shared runs",
				s.PasswordEnv)
		}
	}
	config.ConnectTimeout = connecting
	config.RuntimeParams["application_name"] = "nightdrill"
	config.RuntimeParams["lock_timeout"] = waiting
	out := &Store{at: fmt.Sprintf("%s:%d/%s", config.Host, config.Port, config.Database)}
	if out.conn, err = pgconn.ConnectConfig(ctx, config); err != nil {
		return nil, out.said(ctx, err, config.User)
	}
	if err := out.migrate(ctx); err != nil {
		out.Close()
		return nil, err
	}
	return out, nil
}

// At returns where the store is: host:port/database.
func (s *Store) At() string { return s.at }

// Close ends the connection.
func (s *Store) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = s.conn.Close(ctx) // what was committed stays so
}

// version returns the version of the tables; 0 where there are none.
func (s *Store) version(ctx context.Context) (n int, err error) {
	// not to_regclass, which may not see what another program made while this one waited for a lock
	rows, _, err := s.query(ctx, false, "SELECT 1 FROM pg_tables WHERE schemaname = 'nightdrill' AND tablename = "+
		"'version'")
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	if rows, _, err = s.query(ctx, false, "SELECT number FROM nightdrill.version"); err != nil || len(rows) == 0 {
		return 0, err
	}
	return strconv.Atoi(string(rows[0][0]))
}

func (s *Store) migrate(ctx context.Context) error {
	known, err := s.version(ctx)
	if err != nil {
		return s.said(ctx, err, "")
	}
	if known == Version {
		return nil
	}
	return s.within(ctx, func() error {
		if _, _, err := s.query(ctx, false, "SELECT pg_advisory_xact_lock($1)", migrating); err != nil {
			return err
		}
		known, err := s.version(ctx) // another program may have been here meanwhile
		switch {
		case err != nil || known == Version:
			return err
		case known > Version:
			return fmt.Errorf("the shared runs on %s %w (version %d, this program supports %d); use that one", s.at,
				store.ErrNewer, known, Version)
		case known == 0:
			if err := s.exec(ctx, "CREATE SCHEMA IF NOT EXISTS nightdrill; CREATE TABLE nightdrill.version "+
				"(number integer NOT NULL); INSERT INTO nightdrill.version VALUES (0)"); err != nil {
				return err
			}
		}
		for _, step := range steps[known:] {
			if err := s.exec(ctx, step); err != nil {
				return err
			}
		}
		return s.exec(ctx, fmt.Sprintf("UPDATE nightdrill.version SET number = %d", Version))
	})
}

// exec executes statements without parameters.
func (s *Store) exec(ctx context.Context, statements string) error {
	_, err := s.conn.Exec(ctx, statements).ReadAll()
	return err
}

// query executes a statement with parameters, which are text, numbers, or nil, and returns its rows and how many it
// changed. Values are text; with binary they are as the server keeps them.
func (s *Store) query(ctx context.Context, binary bool, statement string, params ...any) (
	rows [][][]byte, changed int64, err error) {
	values := make([][]byte, len(params))
	for i, p := range params {
		if text, ok := p.(*string); ok && text != nil {
			values[i] = []byte(*text)
		} else if !ok {
			values[i] = fmt.Append([]byte{}, p) // an empty text is not NULL
		}
	}
	format := int16(0)
	if binary {
		format = 1
	}
	got := s.conn.ExecParams(ctx, statement, values, nil, nil, []int16{format}).Read()
	return got.Rows, got.CommandTag.RowsAffected(), got.Err
}

// within does something in a transaction.
func (s *Store) within(ctx context.Context, do func() error) error {
	err := s.exec(ctx, "BEGIN")
	if err == nil {
		if err = do(); err == nil {
			err = s.exec(ctx, "COMMIT")
		} else if !s.conn.IsClosed() {
			_ = s.exec(context.WithoutCancel(ctx), "ROLLBACK") // what went wrong is said
		}
	}
	return s.said(ctx, err, "")
}

// Push adds a run, whole or not at all. Of one that is there already it returns store.ErrThere.
func (s *Store) Push(ctx context.Context, p *store.Packed) error {
	i := &p.Info
	err := s.within(ctx, func() error {
		var main *string
		if i.Headline != nil {
			text, _ := json.Marshal(i.Headline) // plain data always marshals
			main = new(string(text))
		}
		_, added, err := s.query(ctx, false, "INSERT INTO nightdrill.runs (id, project, drill, began, finished, "+
			"length, machine, code, branch, name, note, bytes, main, head) VALUES ($1, $2, $3, $4, $5, $6, $7, "+
			"$8, $9, $10, $11, $12, $13, $14) ON CONFLICT (id) DO NOTHING", i.ID, i.Project, i.Drill,
			i.Began.UTC().Format(time.RFC3339Nano), i.Finished, int64(i.Length), i.Machine, i.Commit, i.Branch, i.Name,
			i.Note, i.Bytes, main, p.Head)
		if err != nil {
			return err
		}
		if added == 0 {
			return store.ErrThere
		}
		if err := s.copyIn(ctx, "blocks (run, kind, seq, data)", len(p.Blocks), func(k int) []any {
			return []any{i.ID, p.Blocks[k].Kind, int32(p.Blocks[k].Seq), p.Blocks[k].Data}
		}); err != nil {
			return err
		}
		return s.copyIn(ctx, "blobs (run, number, data)", len(p.Blobs), func(k int) []any {
			return []any{i.ID, p.Blobs[k].Number, p.Blobs[k].Data}
		})
	})
	if err != nil && !errors.Is(err, store.ErrThere) {
		return fmt.Errorf("run %s was not pushed: %w", i.ID, err)
	}
	return err
}

// copyIn adds rows to a table as a stream.
func (s *Store) copyIn(ctx context.Context, table string, n int, row func(i int) []any) error {
	from := &rows{n: n, row: row}
	_, err := s.conn.CopyFrom(ctx, from, "COPY nightdrill."+table+" FROM STDIN (FORMAT binary)")
	return err
}

// List returns the runs of a project, the newest first.
func (s *Store) List(ctx context.Context, project string) (out []store.Info, err error) {
	all, _, err := s.query(ctx, false, "SELECT id, project, drill, (extract(epoch FROM began) * 1000000)::bigint, "+
		"finished, length, machine, code, branch, name, note, bytes, main FROM nightdrill.runs WHERE project = $1 "+
		"ORDER BY began DESC, id DESC", project)
	if err != nil {
		return nil, s.said(ctx, err, "")
	}
	for _, row := range all {
		text := func(i int) string { return string(row[i]) }
		number := func(i int) int64 {
			n, _ := strconv.ParseInt(text(i), 10, 64) // of a column of whole numbers
			return n
		}
		i := store.Info{ID: text(0), Project: text(1), Drill: text(2), Began: time.UnixMicro(number(3)),
			Finished: text(4) == "t", Length: time.Duration(number(5)), Machine: text(6), Commit: text(7),
			Branch: text(8), Name: text(9), Note: text(10), Bytes: number(11)}
		if row[12] != nil {
			_ = store.ReadJSON(row[12], &i.Headline) // without it, there are no figures in the list
		}
		i.Seconds = i.Length.Seconds()
		i.Harmless()
		out = append(out, i)
	}
	return out, nil
}

// Pull reads a run.
func (s *Store) Pull(ctx context.Context, i store.Info) (*store.Packed, error) {
	p := &store.Packed{Info: i}
	err := s.within(ctx, func() error {
		all, _, err := s.query(ctx, false, "SELECT head FROM nightdrill.runs WHERE id = $1", i.ID)
		if err == nil && len(all) == 0 {
			err = errGone
		}
		if err != nil {
			return err
		}
		p.Head = string(all[0][0])
		if all, _, err = s.query(ctx, true, "SELECT kind, seq, data FROM nightdrill.blocks WHERE run = $1",
			i.ID); err != nil {
			return err
		}
		for _, row := range all {
			p.Blocks = append(p.Blocks, store.Block{Kind: string(row[0]), Seq: int(int4(row[1])), Data: row[2]})
		}
		if all, _, err = s.query(ctx, true, "SELECT number, data FROM nightdrill.blobs WHERE run = $1",
			i.ID); err != nil {
			return err
		}
		for _, row := range all {
			p.Blobs = append(p.Blobs, store.Blob{Number: int4(row[0]), Data: row[1]})
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("run %s was not pulled: %w", i.ID, err)
	}
	return p, nil
}

var errGone = errors.New("it was deleted meanwhile")

// Delete deletes runs for good, and returns those that were there.
func (s *Store) Delete(ctx context.Context, ids []string) (gone []string, err error) {
	all, _, err := s.query(ctx, false, "DELETE FROM nightdrill.runs WHERE id = ANY(string_to_array($1, ',')) "+
		"RETURNING id", strings.Join(ids, ","))
	for _, row := range all {
		gone = append(gone, string(row[0]))
	}
	slices.Sort(gone)
	return gone, s.said(ctx, err, "")
}
