// Package store keeps an agent's measurements on disk until the server has
// acknowledged them: what was measured survives a crash, and is delivered in
// the order measured.
package store

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	bolt "go.etcd.io/bbolt"

	"kestite/agent/wire"
	"kestite/core/clock"
	"kestite/core/span"
)

// Store is an agent's queue on disk. It is safe for concurrent use.
type Store struct {
	db  *bolt.DB
	max int
}

var (
	queue = []byte("measurements")
	aside = []byte("quarantine")
	state = []byte("state")
)

// MostAside is how many measurements the quarantine holds; beyond it the oldest go.
const MostAside = 1000

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
		for _, name := range [][]byte{queue, aside, state} {
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

// Taken says when a measurement was made that is not placed for good yet.
type Taken struct {
	// Start names the start of the machine, and Count how long after it, in ns.
	Start string        `json:"start"`
	Count time.Duration `json:"count"`
	// Own is what the machine's own clock showed.
	Own span.Instant `json:"own"`
}

// row is a measurement as kept: with Taken, At is not for good.
type row struct {
	wire.Measurement
	Taken *Taken `json:"taken,omitempty"`
}

// Add keeps a measurement; when it returns, it is on disk. taken is nil where At is
// for good. dropped is how many old ones had to go.
func (s *Store) Add(m wire.Measurement, taken *Taken) (dropped int, err error) {
	text, err := json.Marshal(row{m, taken})
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

// Kept is a measurement in the store with its key.
type Kept struct {
	Key uint64
	row
}

// Loose is a measurement that is not in a store.
func Loose(m wire.Measurement, taken *Taken) Kept { return Kept{row: row{m, taken}} }

// Oldest returns measurements with keys above after, oldest first: up to n, and
// not more than so many bytes as JSON unless it is one alone. What cannot be
// read is set aside.
func (s *Store) Oldest(after uint64, n, bytes int) ([]Kept, error) {
	var list []Kept
	torn := map[uint64]string{}
	err := s.db.View(func(tx *bolt.Tx) error {
		size := 0
		c := tx.Bucket(queue).Cursor()
		for k, v := c.Seek(key(after + 1)); k != nil && len(list) < n; k, v = c.Next() {
			one := Kept{Key: binary.BigEndian.Uint64(k)}
			if err := json.Unmarshal(v, &one.row); err != nil {
				torn[one.Key] = "it cannot be read from the store: " + err.Error()
				continue
			}
			if size += len(v); size > bytes && len(list) > 0 {
				return nil
			}
			list = append(list, one)
		}
		return nil
	})
	if err == nil && len(torn) > 0 {
		_, err = s.SetAside(torn)
	}
	return list, err
}

// Settle writes down when measurements were made, for good.
func (s *Store) Settle(list []Kept) error {
	return s.db.Update(func(tx *bolt.Tx) error {
		b := tx.Bucket(queue)
		for _, k := range list {
			text, err := json.Marshal(row{Measurement: k.Measurement})
			if err != nil {
				return err
			}
			if b.Get(key(k.Key)) == nil {
				continue // it had to go meanwhile
			}
			if err := b.Put(key(k.Key), text); err != nil {
				return err
			}
		}
		return nil
	})
}

// Forget drops measurements.
func (s *Store) Forget(keys ...uint64) error {
	return s.db.Update(func(tx *bolt.Tx) error {
		for _, k := range keys {
			if err := tx.Bucket(queue).Delete(key(k)); err != nil {
				return err
			}
		}
		return nil
	})
}

// asideRow is a measurement in quarantine as kept.
type asideRow struct {
	Reason      string          `json:"reason"`
	Measurement json.RawMessage `json:"measurement,omitempty"`
	Torn        []byte          `json:"torn,omitempty"` // what is no JSON
}

// SetAside moves measurements to the quarantine, each with the reason. dropped
// is how many older ones had to go from there.
func (s *Store) SetAside(reasons map[uint64]string) (dropped int, err error) {
	err = s.db.Update(func(tx *bolt.Tx) error {
		dropped = 0
		from, to := tx.Bucket(queue), tx.Bucket(aside)
		for _, k := range slices.Sorted(maps.Keys(reasons)) {
			v := from.Get(key(k))
			if v == nil {
				continue
			}
			one := asideRow{Reason: reasons[k]}
			if json.Valid(v) {
				one.Measurement = v
			} else {
				one.Torn = v
			}
			text, err := json.Marshal(one)
			if err != nil {
				return err
			}
			seq, err := to.NextSequence()
			if err != nil {
				return err
			}
			if err := to.Put(key(seq), text); err != nil {
				return err
			}
			if err := from.Delete(key(k)); err != nil {
				return err
			}
			c := to.Cursor()
			if first, _ := c.First(); seq-binary.BigEndian.Uint64(first) >= MostAside {
				dropped++
				if err := c.Delete(); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return dropped, err
}

// Aside says how many measurements are in quarantine, and names the latest, n at most.
func (s *Store) Aside(n int) (count int64, latest []wire.Aside) {
	s.db.View(func(tx *bolt.Tx) error {
		c := tx.Bucket(aside).Cursor()
		first, _ := c.First()
		last, v := c.Last()
		if first == nil {
			return nil
		}
		count = int64(binary.BigEndian.Uint64(last) - binary.BigEndian.Uint64(first) + 1)
		for ; v != nil && len(latest) < n; _, v = c.Prev() {
			var one asideRow
			var m wire.Measurement
			if json.Unmarshal(v, &one) == nil && (one.Measurement == nil || json.Unmarshal(one.Measurement, &m) == nil) {
				latest = append(latest, wire.Aside{Check: m.Check, At: m.At, Reason: one.Reason})
			}
		}
		return nil
	})
	return count, latest
}

var released = []byte("released")

// Release moves the quarantine back among what waits for delivery, once for each
// instant that a person asked for it.
func (s *Store) Release(asked span.Instant) (n int, err error) {
	err = s.db.Update(func(tx *bolt.Tx) error {
		n = 0
		instant := []byte(asked.String())
		if bytes.Compare(instant, tx.Bucket(state).Get(released)) <= 0 {
			return nil
		}
		from, to := tx.Bucket(aside), tx.Bucket(queue)
		c := from.Cursor()
		for k, v := c.First(); k != nil; k, v = c.Next() {
			var one asideRow
			if json.Unmarshal(v, &one) != nil || one.Measurement == nil || placeless(one.Measurement) {
				continue // nothing that could be delivered: it stays to be looked at
			}
			seq, err := to.NextSequence()
			if err != nil {
				return err
			}
			if err := to.Put(key(seq), one.Measurement); err != nil {
				return err
			}
			if err := c.Delete(); err != nil {
				return err
			}
			n++
		}
		return tx.Bucket(state).Put(released, instant)
	})
	return n, err
}

// Most is how many measurements the store holds.
func (s *Store) Most() int { return s.max }

// Expire drops measurements from before an instant, those in quarantine too, and
// returns how many they were.
func (s *Store) Expire(before span.Instant) (dropped int, err error) {
	err = s.db.Update(func(tx *bolt.Tx) error {
		dropped = 0
		for _, name := range [][]byte{queue, aside} {
			c := tx.Bucket(name).Cursor()
			for k, v := c.First(); k != nil && madeBefore(name, v, before); k, v = c.First() {
				if err := c.Delete(); err != nil {
					return err
				}
				dropped++
			}
		}
		return nil
	})
	return dropped, err
}

// madeBefore says whether a stored measurement is from before an instant. One that
// is not placed yet is not, and neither is one that cannot be read: it is set aside when it is to be delivered, and
// there it is as old as can be.
func madeBefore(bucket, v []byte, before span.Instant) bool {
	if bytes.Equal(bucket, aside) {
		var one asideRow
		if json.Unmarshal(v, &one) != nil || one.Measurement == nil {
			return false
		}
		v = one.Measurement
	}
	var m struct {
		At    span.Instant `json:"at"`
		Taken *Taken       `json:"taken"`
	}
	return json.Unmarshal(v, &m) == nil && m.Taken == nil && m.At < before
}

// placeless says whether it is not known when a stored measurement was made.
func placeless(v []byte) bool {
	var m struct {
		Taken *Taken `json:"taken"`
	}
	return json.Unmarshal(v, &m) == nil && m.Taken != nil
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

// Readings are what is known of the database's clock, by starts of the machine.
type Readings = map[string]clock.Reading

// mostStarts is of how many starts of the machine readings are kept: the latest.
const mostStarts = 100

// SaveReadings keeps what is known of the database's clock.
func (s *Store) SaveReadings(r Readings) error {
	for len(r) > mostStarts {
		delete(r, slices.MinFunc(slices.Collect(maps.Keys(r)), func(a, b string) int { return r[a].Zero.Compare(r[b].Zero) }))
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.db.Update(func(tx *bolt.Tx) error { return tx.Bucket(state).Put([]byte("readings"), text) })
}

// SavedReadings returns the readings kept last.
func (s *Store) SavedReadings() Readings {
	out := Readings{}
	s.db.View(func(tx *bolt.Tx) error {
		if text := tx.Bucket(state).Get([]byte("readings")); text != nil && json.Unmarshal(text, &out) != nil {
			out = Readings{}
		}
		return nil
	})
	return out
}

// Lost is what the store could not keep, ever.
type Lost struct {
	Count int64        `json:"count"`
	At    span.Instant `json:"at"` // the last time
}

// Lose counts measurements that are lost for good, and returns all that were.
func (s *Store) Lose(n int, at span.Instant) (all Lost, err error) {
	err = s.db.Update(func(tx *bolt.Tx) error {
		b := tx.Bucket(state)
		all = Lost{}
		if text := b.Get([]byte("lost")); text != nil && json.Unmarshal(text, &all) != nil {
			all = Lost{}
		}
		if n == 0 {
			return nil
		}
		all = Lost{all.Count + int64(n), at}
		text, err := json.Marshal(all)
		if err != nil {
			return err
		}
		return b.Put([]byte("lost"), text)
	})
	return all, err
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
