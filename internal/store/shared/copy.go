package shared

import (
	"encoding/binary"
	"io"
)

// rows reads as rows in the binary format of PostgreSQL's COPY (https://www.postgresql.org/docs/current/sql-copy.html),
// one at a time. Values are text, bytes and int32.
type rows struct {
	n   int
	row func(i int) []any

	at  int // the next row; n + 1 when the end was written
	buf []byte
}

// copyHead is the signature of the format, without flags and without an extension.
var copyHead = append([]byte("PGCOPY\n\xff\r\n\x00"), make([]byte, 8)...)

func (r *rows) Read(to []byte) (int, error) {
	for len(r.buf) == 0 {
		if r.at == 0 {
			r.buf = append(r.buf, copyHead...)
		}
		switch {
		case r.at > r.n:
			return 0, io.EOF
		case r.at == r.n:
			r.buf = append(r.buf, 0xff, 0xff) // -1 for a number of values: there are no more rows
		default:
			r.encode(r.row(r.at))
		}
		r.at++
	}
	n := copy(to, r.buf)
	r.buf = r.buf[n:]
	return n, nil
}

func (r *rows) encode(values []any) {
	r.buf = binary.BigEndian.AppendUint16(r.buf, uint16(len(values)))
	for _, v := range values {
		switch v := v.(type) {
		case string:
			r.buf = append(binary.BigEndian.AppendUint32(r.buf, uint32(len(v))), v...)
		case []byte:
			r.buf = append(binary.BigEndian.AppendUint32(r.buf, uint32(len(v))), v...)
		case int32:
			r.buf = binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(r.buf, 4), uint32(v))
		}
	}
}

// int4 reads an integer of a result in the binary format.
func int4(value []byte) int32 { return int32(binary.BigEndian.Uint32(value)) }
