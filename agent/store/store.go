// Package store keeps an agent's measurements on disk until the server has
// acknowledged them: what was measured survives a crash, and is delivered in
// the order measured.
package store

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"path/filepath"
	"time"

	bolt "go.etcd.io/bbolt"

	"kestite/agent/wire"
	"kestite/core/span"
)

// Store is an agent's queue on disk. It is safe for concurrent use.
type Store struct {
	db  *bolt.DB
	max int
}

var (
	queue = []byte("measurements")
	state = []byte("state")
)

// Max is how many measurements are kept when the server is away; beyond it the
// oldest are dropped, and Add says so.
const Max = 2_000_000

// Open opens or makes the store in dir. A second agent on the same directory is refused.
func Open(dir string, most int) (*Store, error) {
	db, err := bolt.Open(filepath.Join(dir, "measurements.db"), 0o600, &bolt.Options{Timeout: time.Second})
	if err != nil {
		return nil, fmt.Errorf("open the agent's store in %s (does another agent use it?): %w", dir, err)
	}
	db.MaxBatchDelay = 20 * time.Millisecond
	err = db.Update(func(tx *bolt.Tx) error {
		for _, name := range [][]byte{queue, state} {
			if _, err := tx.CreateBucketIfNotExists(name); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		db.Close()
		return nil, err
	}
	return &Store{db, most}, nil
}

// Close closes the store.
func (s *Store) Close() error { return s.db.Close() }

// Add keeps a measurement; when it returns, it is on disk. dropped is how many
// old ones had to go.
func (s *Store) Add(m wire.Measurement) (dropped int, err error) {
	text, err := json.Marshal(m)
	if err != nil {
		return 0, err
	}
	err = s.db.Batch(func(tx *bolt.Tx) error {
		dropped = 0
		b := tx.Bucket(queue)
		seq, err := b.NextSequence()
		if err != nil {
			return err
		}
		c := b.Cursor()
		if first, _ := c.First(); first != nil && seq-binary.BigEndian.Uint64(first) >= uint64(s.max) {
			if err := c.Delete(); err != nil {
				return err
			}
			dropped++
		}
		return b.Put(key(seq), text)
	})
	return dropped, err
}

func key(seq uint64) []byte { return binary.BigEndian.AppendUint64(nil, seq) }

// Oldest returns up to n measurements, oldest first, and the key of the last.
func (s *Store) Oldest(n int) (list []wire.Measurement, last uint64, err error) {
	err = s.db.View(func(tx *bolt.Tx) error {
		c := tx.Bucket(queue).Cursor()
		for k, v := c.First(); k != nil && len(list) < n; k, v = c.Next() {
			var m wire.Measurement
			if err := json.Unmarshal(v, &m); err != nil {
				return fmt.Errorf("a stored measurement cannot be read: %w", err)
			}
			list = append(list, m)
			last = binary.BigEndian.Uint64(k)
		}
		return nil
	})
	return list, last, err
}

// Forget drops all measurements up to and including the key last.
func (s *Store) Forget(last uint64) error {
	return s.db.Update(func(tx *bolt.Tx) error {
		c := tx.Bucket(queue).Cursor()
		for k, _ := c.First(); k != nil && binary.BigEndian.Uint64(k) <= last; k, _ = c.First() {
			if err := c.Delete(); err != nil {
				return err
			}
		}
		return nil
	})
}

// Most is how many measurements the store holds.
func (s *Store) Most() int { return s.max }

// Expire drops measurements from before an instant and returns how many they were.
func (s *Store) Expire(before span.Instant) (dropped int, err error) {
	err = s.db.Update(func(tx *bolt.Tx) error {
		dropped = 0
		c := tx.Bucket(queue).Cursor()
		for k, v := c.First(); k != nil; k, v = c.First() {
			var m struct {
				At span.Instant `json:"at"`
			}
			if json.Unmarshal(v, &m) == nil && m.At >= before {
				return nil
			}
			if err := c.Delete(); err != nil {
				return err
			}
			dropped++
		}
		return nil
	})
	return dropped, err
}

// Backlog is about how many measurements wait.
func (s *Store) Backlog() (n int64) {
	s.db.View(func(tx *bolt.Tx) error {
		c := tx.Bucket(queue).Cursor()
		first, _ := c.First()
		last, _ := c.Last()
		if first != nil {
			n = int64(binary.BigEndian.Uint64(last) - binary.BigEndian.Uint64(first) + 1)
		}
		return nil
	})
	return n
}

// Save keeps the assignments, so that an agent that restarts while the server
// is away goes on measuring.
func (s *Store) Save(a wire.Assignments) error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket(state).Put([]byte("assignments"), text) })
}

// Saved returns the assignments kept last; false when there are none.
func (s *Store) Saved() (a wire.Assignments, ok bool) {
	s.db.View(func(tx *bolt.Tx) error {
		text := tx.Bucket(state).Get([]byte("assignments"))
		ok = text != nil && json.Unmarshal(text, &a) == nil
		return nil
	})
	return a, ok
}
