package instrument

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"kestite/core/measure"
)

// What servers do wrong is said in words of ours.
func TestNoWordsOfALibrary(t *testing.T) {
	answer := func(text string) string {
		return listen(t, func(c net.Conn) {
			c.Read(make([]byte, 4096))
			fmt.Fprint(c, text)
		})
	}
	for text, says := range map[string]string{
		"220 harbour mail\r\n":                "does not speak HTTP",
		"HTTP/1.1 abc\r\n\r\n":                "does not speak HTTP",
		"HTTP/1.1 200 OK\r\nno colon\r\n\r\n": "does not speak HTTP",
		"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("x", 80<<10) + "\r\n\r\n":   "longer than 64 KiB",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n":         "chunks are not as HTTP has them",
		"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf":                  "closed before the answer was complete",
		"HTTP/1.1 200 OK\r\nContent-Length: many\r\n\r\n":                     "does not speak HTTP",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked, chunked\r\n\r\n0\r\n": "HTTP",
		"": "closed without an answer",
	} {
		s := NewSet(LocalPolicy())
		r := s.Measure(context.Background(), Task{Kind: "http", Target: "http://" + answer(text) + "/", Timeout: 5 * time.Second})
		s.Close()
		if r.Outcome != measure.Failed || !strings.Contains(r.Detail, says) {
			t.Errorf("%.60q: %v %q, want %q", text, r.Outcome, r.Detail, says)
		}
		for _, word := range []string{"net/http", "http:", "EOF", "strconv", "read tcp", "dial tcp"} {
			if strings.Contains(r.Detail, word) {
				t.Errorf("%.60q: the words of a library: %q", text, r.Detail)
			}
		}
	}
	s := NewSet(LocalPolicy())
	defer s.Close()
	if r := s.Measure(context.Background(), Task{Kind: "http", Target: "https://" + answer("HTTP/1.1 400 Bad Request\r\n\r\n") + "/", Timeout: 5 * time.Second}); !strings.Contains(r.Detail, "does not speak TLS") {
		t.Errorf("plain HTTP where TLS is expected: %q", r.Detail)
	}
}
