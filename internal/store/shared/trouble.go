package shared

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"

	"nightdrill.dev/internal/store"
)

// causes are what the codes of PostgreSQL (appendix A of its manual) mean for the user, and what helps.
var causes = map[string]string{
	"28P01": "the password for user USER is wrong",
	"28000": "user USER is not allowed to connect; ask for an entry in pg_hba.conf, or use another user",
	"3D000": "the database does not exist; create it with createdb, or correct runs.share.url",
	"42501": "this user may not do that; grant it CREATE on the database for the first push, and USAGE, SELECT, " +
		"INSERT and DELETE on the schema nightdrill from then on",
	"25006": "the server is read-only; pull works there, push needs the primary server",
	"53100": "the server's disk is full; nothing of this run was kept, free some space there and push again",
	"53200": "the server is out of memory; try again",
	"53300": "the server has no connection left; try again, or raise max_connections",
	"55P03": "another program holds the tables for longer than " + waiting + "; try again",
	"57P01": "the server was shut down; nothing of this run was kept, push again when it is back",
	"57P03": "the server is starting up or shutting down; try again",
}

// said returns an error of the server or of the connection in words, with what helps.
func (s *Store) said(ctx context.Context, err error, user string) error {
	var e *pgconn.PgError
	unknown, host, name := new(x509.UnknownAuthorityError), new(x509.HostnameError), new(net.DNSError)
	certificate := new(tls.CertificateVerificationError)
	why := ""
	switch {
	case err == nil, errors.Is(err, store.ErrThere), errors.Is(err, store.ErrNewer), errors.Is(err, errGone):
		return err
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &e):
		if why = causes[e.Code]; why == "" {
			why = fmt.Sprintf("the server refused: %s (%s)", e.Message, e.Code)
		} else {
			why = strings.ReplaceAll(why, "USER", user)
		}
	case errors.As(err, unknown):
		why = "its certificate is of an authority that is not known here; name it with sslrootcert= in runs.share.url"
	case errors.As(err, host):
		why = "its certificate is for another host: " + host.Error()
	case errors.As(err, &certificate):
		why = "its certificate is not valid: " + certificate.Err.Error()
	case errors.As(err, &name):
		why = "the host is not known: " + name.Name
	case errors.Is(err, syscall.ECONNREFUSED):
		why = "nothing listens there; start the server, or correct runs.share.url"
	case errors.Is(err, context.DeadlineExceeded):
		why = "it did not answer in time"
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed),
		errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), s.conn != nil && s.conn.IsClosed():
		why = "the connection was lost; nothing of this run was kept, push again"
	default:
		return fmt.Errorf("shared runs on %s: %w", s.at, err)
	}
	return fmt.Errorf("shared runs on %s: %s", s.at, why)
}
