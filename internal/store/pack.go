package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Packed is a run as it is carried from one store to another: its records as they are kept. Its findings are computed
// again where it comes to, from the records.
type Packed struct {
	Info   Info
	Head   string // JSON
	Blocks []Block
	Blobs  []Blob
}

// Block is records of one kind, encoded.
type Block struct {
	Kind string
	Seq  int
	Data []byte
}

// Blob is the bytes of an event, a reply, or of the times that a function reported.
type Blob struct {
	Number int32
	Data   []byte
}

// Parts chooses what goes along with a run beyond its figures and records.
type Parts struct {
	Payloads bool // the bytes of events and replies
	Logs     bool // what functions wrote
}

// Pack reads a run to be carried to another store.
func (s *Store) Pack(i Info, parts Parts) (*Packed, error) {
	p := &Packed{Info: i}
	if err := s.db.QueryRow("SELECT head FROM runs WHERE id = ?", i.ID).Scan(&p.Head); err != nil {
		return nil, s.said(err)
	}
	if !parts.Logs {
		var err error
		if p.Head, err = withoutLogs(p.Head); err != nil {
			return nil, fmt.Errorf("run %s is damaged: %w", i.ID, err)
		}
	}
	query := "SELECT kind, seq, data FROM blocks WHERE run = ?"
	if !parts.Logs {
		query += " AND kind <> 'lines'"
	}
	err := s.each(query, i.ID, func(rows *sql.Rows) error {
		var b Block
		if err := rows.Scan(&b.Kind, &b.Seq, &b.Data); err != nil {
			return err
		}
		p.Blocks = append(p.Blocks, b)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if parts.Payloads {
		return p, s.each("SELECT number, data FROM blobs WHERE run = ?", i.ID, func(rows *sql.Rows) error {
			var b Blob
			if err := rows.Scan(&b.Number, &b.Data); err != nil {
				return err
			}
			p.Blobs = append(p.Blobs, b)
			return nil
		})
	}
	r, err := s.Load(i.ID) // the times that functions reported are figures, not payloads
	if err != nil {
		return nil, err
	}
	for number, text := range r.Timings {
		p.Blobs = append(p.Blobs, Blob{number, []byte(text)})
	}
	return p, nil
}

// withoutLogs returns the head of a run without the log lines that it quotes.
func withoutLogs(text string) (string, error) {
	var h map[string]json.RawMessage
	if err := json.Unmarshal([]byte(text), &h); err != nil {
		return "", err
	}
	delete(h, "said")
	out, err := json.Marshal(h)
	return string(out), err
}

// each calls a function for each row of a query about a run.
func (s *Store) each(query, run string, do func(*sql.Rows) error) error {
	rows, err := s.db.Query(query, run)
	if err != nil {
		return s.said(err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := do(rows); err != nil {
			return s.said(err)
		}
	}
	return s.said(rows.Err())
}

// ErrThere is returned where a store has a run already.
var ErrThere = errors.New("is in the store already")

// Unpack adds a run that was carried from another store, whole or not at all.
func (s *Store) Unpack(ctx context.Context, p *Packed) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return s.said(err)
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it does nothing
	i := &p.Info
	if !isID.MatchString(i.ID) { // files and folders are named after it
		return fmt.Errorf("%q is not the ID of a run", i.ID)
	}
	var known int
	if err := tx.QueryRow("SELECT count(*) FROM runs WHERE id = ?", i.ID).Scan(&known); err != nil {
		return s.said(err)
	} else if known > 0 {
		return fmt.Errorf("run %s %w", i.ID, ErrThere)
	}
	var main any
	if i.Headline != nil {
		text, _ := json.Marshal(i.Headline) // plain data always marshals
		main = string(text)
	}
	if _, err := tx.Exec("INSERT INTO runs (id, drill, began, finished, length, head, name, note, pinned, "+
		"main, bytes, project, machine, code, branch) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?, ?, ?, ?)",
		i.ID, i.Drill, i.Began.UTC().Format(time.RFC3339Nano), i.Finished, int64(i.Length), p.Head, i.Name,
		i.Note, main, i.Bytes, i.Project, i.Machine, i.Commit, i.Branch); err != nil {
		return s.said(err)
	}
	for _, b := range p.Blocks {
		if _, err := tx.Exec("INSERT INTO blocks (run, kind, seq, data) VALUES (?, ?, ?, ?)", i.ID, b.Kind, b.Seq,
			b.Data); err != nil {
			return s.said(err)
		}
	}
	for _, b := range p.Blobs {
		if _, err := tx.Exec("INSERT INTO blobs (run, number, data) VALUES (?, ?, ?)", i.ID, b.Number,
			b.Data); err != nil {
			return s.said(err)
		}
	}
	return s.said(tx.Commit())
}

// Complete computes the findings of a run that came without them, so that the next look at it is quick.
func (s *Store) Complete(id string) error {
	page, err := s.Page(id)
	if err != nil {
		return err
	}
	text, _ := json.Marshal(page) // plain data always marshals
	main, _ := json.Marshal(page.Main())
	_, err = s.db.Exec("UPDATE runs SET page = ?, main = ? WHERE id = ?", string(text), string(main), id)
	return s.said(err)
}
