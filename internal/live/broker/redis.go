package broker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/gomodule/redigo/redis"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

const (
	redisBlock = 500 * time.Millisecond // for which a read waits
	redisBatch = 500                    // entries of one read at most,
	redisBytes = 16 << 20               // and about how many bytes
)

// dialRedis connects and logs in.
func (s *Server) dialRedis(ctx context.Context) (redis.Conn, error) {
	secure, err := s.tls()
	if err != nil {
		return nil, &final{err}
	}
	database, err := strconv.Atoi("0" + s.Path)
	if err != nil {
		return nil, &final{fmt.Errorf("the path of the URL of %s must be the number of a database, such as /0", s.Name)}
	}
	options := []redis.DialOption{redis.DialConnectTimeout(connectWithin), redis.DialDatabase(database),
		redis.DialReadTimeout(connectWithin), redis.DialWriteTimeout(connectWithin), redis.DialClientName("nightdrill")}
	if secure != nil {
		options = append(options, redis.DialUseTLS(true), redis.DialTLSConfig(secure))
	}
	if s.Password != "" {
		options = append(options, redis.DialPassword(s.Password))
		if s.User != "" {
			options = append(options, redis.DialUsername(s.User))
		}
	}
	c, err := redis.DialContext(ctx, "tcp", s.Address, options...)
	if err != nil {
		return nil, s.redisError(err, "")
	}
	return c, nil
}

// redisError returns what an error of Redis means.
func (s *Server) redisError(err error, stream string) error {
	var e redis.Error
	if !errors.As(err, &e) {
		return s.connecting(err)
	}
	code, _, _ := strings.Cut(string(e), " ")
	switch code {
	case "WRONGPASS", "NOAUTH":
		return &final{s.refused()}
	case "NOPERM":
		return &final{fmt.Errorf("%s does not let the user %q do that: %s", s.Name, s.User, s.clean(string(e)))}
	case "WRONGTYPE":
		return &final{fmt.Errorf("%s of %s is not a stream; a list or a set cannot be copied", stream, s.Name)}
	case "NOGROUP":
		return &final{fmt.Errorf("%s of %s has no such consumer group", stream, s.Name)}
	}
	if strings.Contains(string(e), "no such key") {
		return &final{fmt.Errorf("%s has no stream %q", s.Name, stream)}
	}
	if strings.Contains(string(e), "without any password configured") {
		return &final{fmt.Errorf("%s has no password for the default user, and one was given", s.Name)}
	}
	return fmt.Errorf("%s: %s", s.Name, s.clean(string(e)))
}

// streamInfo is what Redis says about a stream.
type streamInfo struct {
	last   string // id of the last entry that it ever had
	length int
	added  int // entries that it ever had; -1 where the server does not say (before 7.0)
}

func (s *Server) redisInfo(c redis.Conn, stream string) (x streamInfo, err error) {
	values, err := redis.Values(c.Do("XINFO", "STREAM", stream))
	if err != nil {
		return x, s.redisError(err, stream)
	}
	x.added = -1
	for i := 0; i+1 < len(values); i += 2 {
		name, _ := redis.String(values[i], nil)
		switch name {
		case "last-generated-id":
			x.last, _ = redis.String(values[i+1], nil)
		case "length":
			x.length, _ = redis.Int(values[i+1], nil)
		case "entries-added":
			x.added, _ = redis.Int(values[i+1], nil)
		}
	}
	return x, nil
}

// copyRedis reads a stream without a group from now on: nothing is taken from anyone.
func (s *Server) copyRedis(ctx context.Context, at *plan.BrokerPlace, o Options) error {
	last, seen := "", 0 // id of the last entry, and how many the stream had up to it
	return s.keepUp(ctx, o, "the stream is read on from where it was", func(up func()) error {
		c, err := s.dialRedis(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		defer context.AfterFunc(ctx, func() { _ = c.Close() })() // ends a read that waits
		info, err := s.redisInfo(c, at.Stream)
		if err != nil {
			return err
		}
		if last == "" {
			last, seen = info.last, info.added
		}
		up()
		looked, batch := time.Now(), redisBatch
		for ctx.Err() == nil {
			lost := 0
			if time.Since(looked) > time.Second {
				// entries that were trimmed before they were read: more than it had when the last one was read
				if info, err = s.redisInfo(c, at.Stream); err != nil {
					return err
				}
				if trimmed := info.added - info.length; seen >= 0 && trimmed > seen {
					lost, seen = trimmed-seen, trimmed
				}
				looked = time.Now()
			}
			reply, err := redis.Values(redis.DoWithTimeout(c, redisBlock+connectWithin, "XREAD", "COUNT", batch,
				"BLOCK", redisBlock.Milliseconds(), "STREAMS", at.Stream, last))
			switch {
			case ctx.Err() != nil:
				return nil
			case errors.Is(err, redis.ErrNil): // nothing came
				if lost > 0 {
					o.Note(fmt.Sprintf("%d entries of %s were trimmed before they could be read", lost, at.Stream))
				}
				continue
			case err != nil:
				return s.redisError(err, at.Stream)
			}
			messages, err := redisMessages(reply, at.Stream)
			if err != nil {
				return fmt.Errorf("%s sent what cannot be read: %w", s.Name, err)
			}
			size := 1
			for i := range messages {
				size += len(messages[i].Data)
			}
			batch = min(max(redisBytes/size*len(messages), 1), redisBatch)
			for i := range messages {
				m := &messages[i]
				m.Lost, lost = lost, 0
				last = m.ID
				if seen >= 0 {
					seen++
				}
				if err := o.Each(m); err != nil {
					return &stopped{err}
				}
			}
		}
		return nil
	})
}

// redisMessages reads the reply to XREAD.
func redisMessages(reply []any, stream string) (out []Message, err error) {
	for _, s := range reply {
		of, err := redis.Values(s, nil)
		if err != nil || len(of) != 2 {
			return nil, fmt.Errorf("not a stream: %w", err)
		}
		entries, err := redis.Values(of[1], nil)
		if err != nil {
			return nil, err
		}
		for _, x := range entries {
			pair, err := redis.Values(x, nil)
			if err != nil || len(pair) != 2 {
				return nil, fmt.Errorf("not an entry: %w", err)
			}
			id, err := redis.String(pair[0], nil)
			if err != nil {
				return nil, err
			}
			fields, err := redis.ByteSlices(pair[1], nil)
			if err != nil && !errors.Is(err, redis.ErrNil) { // nil of an entry that was deleted
				return nil, err
			}
			out = append(out, redisMessage(id, stream, fields))
		}
	}
	return out, nil
}

// redisMessage returns an entry of a stream. One with a single field is its value, whatever its name; others are a JSON
// object of their fields. Fields of CloudEvents attributes (ce_NAME) are headers.
func redisMessage(id, stream string, fields [][]byte) Message {
	m := Message{At: time.Now(), ID: id, Place: stream, Partition: -1}
	if ms, _, _ := strings.Cut(id, "-"); ms != "" {
		if n, err := strconv.ParseInt(ms, 10, 64); err == nil {
			m.Sent = time.UnixMilli(n)
		}
	}
	var rest []event.Field
	for i := 0; i+1 < len(fields); i += 2 {
		name, value := string(fields[i]), string(fields[i+1])
		switch {
		case strings.HasPrefix(name, "ce_"):
			m.header(name, value)
		case name == "content-type":
			m.ContentType = value
		default:
			rest = append(rest, event.Field{Name: name, Value: value})
		}
	}
	if len(rest) == 1 {
		m.Data = []byte(rest[0].Value)
		return m
	}
	object := make(map[string]string, len(rest))
	for _, f := range rest {
		object[strings.ToValidUTF8(f.Name, "�")] = strings.ToValidUTF8(f.Value, "�")
		if !utf8.ValidString(f.Value) {
			m.header("binary-field", f.Name)
		}
	}
	m.Data, _ = json.Marshal(object) // text always marshals
	m.ContentType = "application/json"
	return m
}

// takeRedis reads a stream as a consumer of a group: first what this consumer was given and did not acknowledge, then
// what is new. What other consumers hold is left to them.
func (s *Server) takeRedis(ctx context.Context, at *plan.BrokerPlace, o TakeOptions) error {
	return s.keepUp(ctx, o.options(), heldAgain, func(up func()) error {
		c, err := s.dialRedis(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		defer context.AfterFunc(ctx, func() { _ = c.Close() })()
		acks, err := s.dialRedis(ctx) // a read that waits has its connection for itself
		if err != nil {
			return err
		}
		defer acks.Close()
		if _, err := s.redisInfo(c, at.Stream); err != nil {
			return err
		}
		var mu sync.Mutex
		room := newHeld(o.Most)
		from, began := "0", false // what it held before
		for ctx.Err() == nil {
			free := max(o.Most-room.n(), 1)
			reply, err := redis.Values(redis.DoWithTimeout(c, redisBlock+connectWithin, "XREADGROUP", "GROUP", at.Group,
				o.Name, "COUNT", free, "BLOCK", redisBlock.Milliseconds(), "STREAMS", at.Stream, from))
			switch {
			case ctx.Err() != nil:
				return nil
			case err != nil && !errors.Is(err, redis.ErrNil):
				return s.redisError(err, at.Stream)
			}
			if !began {
				began = true
				up()
			}
			messages, err := redisMessages(reply, at.Stream)
			if err != nil {
				return fmt.Errorf("%s sent what cannot be read: %w", s.Name, err)
			}
			if from != ">" {
				if from = ">"; len(messages) > 0 {
					from = messages[len(messages)-1].ID
				}
			}
			for i := range messages {
				m := messages[i]
				m.Redelivered = from != ">"
				if !room.add(ctx) {
					return nil
				}
				o.Each(&Held{Message: m, end: func(bool) error {
					defer room.remove()
					mu.Lock()
					defer mu.Unlock()
					_, err := acks.Do("XACK", at.Stream, at.Group, m.ID)
					if err != nil {
						return s.redisError(err, at.Stream)
					}
					return nil
				}})
			}
		}
		return nil
	})
}
