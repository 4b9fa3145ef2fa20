package ingest

import (
	"bytes"
	"encoding/binary"
	"io"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
)

// copyRaw is the statement whose binary data copyStream makes.
const copyRaw = `COPY measurement (lane, at, outcome, thousandths, late_ms, delay_s, detail, clock_ms, uncertain_ms)
	FROM STDIN (FORMAT binary)`

// copyStream is rows in PostgreSQL's binary COPY format (the manual, COPY, "Binary
// Format"), written without looking at types row by row: half of what a row costs the
// server otherwise.
type copyStream struct{ buf []byte }

func newCopyStream(rows, values int) *copyStream {
	s := &copyStream{buf: make([]byte, 0, 32+rows*100+values*12)}
	s.buf = append(s.buf, "PGCOPY\n\xff\r\n\x00"...)
	s.buf = append(s.buf, 0, 0, 0, 0, 0, 0, 0, 0) // no flags, nothing beyond
	return s
}

func (s *copyStream) row(columns int) { s.buf = binary.BigEndian.AppendUint16(s.buf, uint16(columns)) }

func (s *copyStream) length(n int) { s.buf = binary.BigEndian.AppendUint32(s.buf, uint32(n)) }

func (s *copyStream) null() { s.buf = append(s.buf, 0xff, 0xff, 0xff, 0xff) }

func (s *copyStream) int2(v int16) {
	s.length(2)
	s.buf = binary.BigEndian.AppendUint16(s.buf, uint16(v))
}

func (s *copyStream) int4(v int32) {
	s.length(4)
	s.buf = binary.BigEndian.AppendUint32(s.buf, uint32(v))
}

// said is an int4, NULL where nobody said it.
func (s *copyStream) said(v int32) {
	if v == untold {
		s.null()
		return
	}
	s.int4(v)
}

// timestamptz is in µs since the year 2000.
func (s *copyStream) timestamptz(t time.Time) {
	const year2000 = 946_684_800_000_000
	s.length(8)
	s.buf = binary.BigEndian.AppendUint64(s.buf, uint64(t.UnixMicro()-year2000))
}

// text is text, NULL where it is empty.
func (s *copyStream) text(v string) {
	if v == "" {
		s.null()
		return
	}
	s.length(len(v))
	s.buf = append(s.buf, v...)
}

// int8s is an array of bigint without NULLs, of one dimension from 1 on.
func (s *copyStream) int8s(list []int64) {
	header := []uint32{0, 0, pgtype.Int8OID}
	if len(list) > 0 {
		header = []uint32{1, 0, pgtype.Int8OID, uint32(len(list)), 1}
	}
	s.length(4*len(header) + 12*len(list))
	for _, h := range header {
		s.buf = binary.BigEndian.AppendUint32(s.buf, h)
	}
	for _, v := range list {
		s.length(8)
		s.buf = binary.BigEndian.AppendUint64(s.buf, uint64(v))
	}
}

// end is the whole stream: no more rows come.
func (s *copyStream) end() io.Reader {
	s.buf = append(s.buf, 0xff, 0xff)
	return bytes.NewReader(s.buf)
}
