package wire

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"sync"
)

// writers and readers of gzip are large, and are used again.
var (
	writers = sync.Pool{New: func() any {
		z, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
		if err != nil {
			panic(err)
		}
		return z
	}}
	readers sync.Pool
)

// Write is the body of a request, compressed, in the form that a type names: only a
// Batch has a packed one.
func Write(form string, v any) ([]byte, error) {
	text, err := plain(form, v)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	z := writers.Get().(*gzip.Writer)
	defer writers.Put(z)
	z.Reset(&out)
	if _, err := z.Write(text); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func plain(form string, v any) ([]byte, error) {
	if form != TypePacked {
		return json.Marshal(v)
	}
	b, is := v.(Batch)
	if !is {
		return nil, fmt.Errorf("%T has no packed form", v)
	}
	return Pack(b)
}

// Unzip reads all that was compressed, up to a number of bytes. The error is that of
// the reader, or io.ErrUnexpectedEOF where it ends too early.
func Unzip(in io.Reader, most int64) ([]byte, error) {
	z, has := readers.Get().(*gzip.Reader)
	var err error
	if has {
		err = z.Reset(in)
	} else {
		z, err = gzip.NewReader(in)
	}
	if err != nil {
		return nil, err
	}
	defer readers.Put(z)
	return io.ReadAll(io.LimitReader(z, most))
}
