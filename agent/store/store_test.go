package store_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	bolt "go.etcd.io/bbolt"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
)

// writer is set in the process that writes until it is killed.
const writer = "KESTITE_STORE"

func TestMain(m *testing.M) {
	if dir := os.Getenv(writer); dir != "" {
		write(dir)
	}
	os.Exit(m.Run())
}

// write adds measurements as fast as it can and says of each that it is kept.
func write(dir string) {
	s, err := store.Open(dir, store.Max)
	if err != nil {
		panic(err)
	}
	from, _ := strconv.Atoi(os.Getenv("KESTITE_FROM"))
	for i := from; ; i++ {
		if _, err := s.Add(wire.Measurement{Check: "check", At: span.Instant(i), Outcome: measure.OK, Detail: strings.Repeat("x", i%500)}, nil); err != nil {
			panic(err)
		}
		fmt.Println(i)
	}
}

func keys(list []store.Kept) []uint64 {
	out := make([]uint64, len(list))
	for i, k := range list {
		out[i] = k.Key
	}
	return out
}

// A process that is killed at any point has kept what it said it kept, each
// once, in order; nothing is torn.
func TestKilledAtAnyPoint(t *testing.T) {
	dir := t.TempDir()
	next, kept := 1, 0
	for round := range 100 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), writer+"="+dir, fmt.Sprintf("KESTITE_FROM=%d", next))
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		// Every other round may be killed while it opens the store; the rest
		// only once they write, however slow the machine is.
		kill := func() {
			time.AfterFunc(rand.N(60*time.Millisecond), func() { cmd.Process.Signal(syscall.SIGKILL) })
		}
		opening := round%2 == 0
		if opening {
			kill()
		}
		said := next - 1
		lines := bufio.NewScanner(out)
		for first := true; lines.Scan(); first = false {
			if first && !opening {
				kill()
			}
			if n, err := strconv.Atoi(lines.Text()); err == nil {
				said = n
			}
		}
		cmd.Wait()
		s, err := store.Open(dir, store.Max)
		if err != nil {
			t.Fatalf("round %d: the store does not open: %v", round, err)
		}
		list, err := s.Oldest(0, 1<<20, 1<<30)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		for i, m := range list {
			if want := span.Instant(kept + i + 1); m.At != want {
				t.Fatalf("round %d: measurement %d stands where %d should", round, m.At, want)
			}
		}
		if got := kept + len(list); got < said || got > said+1 {
			t.Fatalf("round %d: %d are kept, and %d were said to be", round, got, said)
		}
		next = kept + len(list) + 1
		if round%10 == 9 { // delivered meanwhile
			kept += len(list)
			if err := s.Forget(keys(list)...); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if next <= 50 {
		t.Errorf("only %d measurements were written in the 50 rounds that write", next-1)
	}
}

// A full disk refuses what it cannot keep and harms nothing that it has.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 { // a file system of its own needs root: once more by sudo, without a question
		if out, err := exec.Command("sudo", "-n", os.Args[0], "-test.run", "^"+t.Name()+"$").CombinedOutput(); err != nil {
			t.Fatalf("as root: %v\n%s", err, out)
		}
		return
	}
	dir := filepath.Join(t.TempDir(), "small")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=512k"); err != nil {
		t.Fatalf("no file system of its own: %v", err)
	}
	defer syscall.Unmount(dir, 0)
	s, err := store.Open(dir, store.Max)
	if err != nil {
		t.Fatal(err)
	}
	added := 0
	var failed error
	for failed == nil && added < 10_000 {
		if _, failed = s.Add(wire.Measurement{Check: "check", At: span.Instant(added + 1), Outcome: measure.OK, Detail: strings.Repeat("x", 1000)}, nil); failed == nil {
			added++
		}
	}
	if failed == nil || added == 0 {
		t.Fatalf("%d measurements fit into 512 KiB, %v", added, failed)
	}
	list, err := s.Oldest(0, 10_000, 1<<30)
	if err != nil || len(list) != added {
		t.Fatalf("%d of %d measurements are there after the disk was full, %v", len(list), added, err)
	}
	if err := s.Forget(keys(list[:added/2])...); err != nil {
		t.Fatalf("delivered measurements cannot be forgotten on a full disk: %v", err)
	}
	if _, err := s.Add(wire.Measurement{Check: "check", At: 1}, nil); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}

// Batches are bounded by bytes, one alone excepted; what cannot be read is set
// aside and is in nobody's way; a person's word brings back what was set aside, once.
func TestQuarantine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := store.Open(dir, store.Max)
	if err != nil {
		t.Fatal(err)
	}
	at := span.Of(time.Now())
	for i := range 6 {
		m := wire.Measurement{Check: "check", At: at.Add(int64(i)), Outcome: measure.OK, Detail: strings.Repeat("x", 1000)}
		if _, err := s.Add(m, nil); err != nil {
			t.Fatal(err)
		}
	}
	for bytes, want := range map[int]int{1: 1, 1500: 1, 2500: 2, 1 << 20: 6} {
		if list, err := s.Oldest(0, 100, bytes); err != nil || len(list) != want {
			t.Errorf("%d bytes hold %d measurements, not %d: %v", bytes, len(list), want, err)
		}
	}
	list, err := s.Oldest(0, 100, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	reasons := map[uint64]string{list[1].Key: "no server takes it", list[3].Key: "nor this", 999: "is not there"}
	if dropped, err := s.SetAside(reasons); err != nil || dropped != 0 {
		t.Fatal(dropped, err)
	}
	last := wire.Aside{Check: "check", At: at.Add(3), Reason: "nor this"}
	if count, latest := s.Aside(1); count != 2 || len(latest) != 1 || latest[0] != last {
		t.Errorf("aside: %d, %+v", count, latest)
	}
	s.Close()
	// A torn row, as a fault of the disk would leave it.
	db, err := bolt.Open(filepath.Join(dir, "measurements.db"), 0o600, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Update(func(tx *bolt.Tx) error {
		return tx.Bucket([]byte("measurements")).Put([]byte{0, 0, 0, 0, 0, 0, 0, 0x10}, []byte(`{"check":"che`))
	}); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if s, err = store.Open(dir, store.Max); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if list, err := s.Oldest(0, 100, 1<<20); err != nil || len(list) != 4 {
		t.Errorf("%d can be read, %v", len(list), err)
	}
	if count, latest := s.Aside(10); count != 3 || !strings.Contains(latest[0].Reason, "cannot be read") {
		t.Errorf("aside: %d, %+v", count, latest)
	}
	if n, err := s.Release(at); err != nil || n != 2 {
		t.Errorf("released %d, %v", n, err)
	}
	if n, err := s.Release(at); err != nil || n != 0 {
		t.Errorf("released %d again, %v", n, err)
	}
	list, err = s.Oldest(0, 100, 1<<20)
	if err != nil || len(list) != 6 || list[4].At != at.Add(1) {
		t.Errorf("released: %+v, %v", list, err)
	}
	// It is bounded, and as old as the store at most.
	all := map[uint64]string{}
	var adding sync.WaitGroup
	for range 100 { // what is added at once goes to disk at once
		adding.Go(func() {
			for range store.MostAside/100 + 1 {
				if _, err := s.Add(wire.Measurement{Check: "check", At: at, Outcome: measure.OK}, nil); err != nil {
					t.Error(err)
				}
			}
		})
	}
	adding.Wait()
	list, _ = s.Oldest(0, 1<<20, 1<<30)
	for _, k := range list {
		all[k.Key] = "none takes it"
	}
	if dropped, err := s.SetAside(all); err != nil || dropped < 5 {
		t.Errorf("%d went, %v", dropped, err)
	}
	if count, _ := s.Aside(0); count != store.MostAside {
		t.Errorf("%d are in quarantine", count)
	}
	if n, err := s.Expire(at.Add(100)); err != nil || n < store.MostAside-1 {
		t.Errorf("%d expired, %v", n, err)
	}
}
