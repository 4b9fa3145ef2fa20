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
	"syscall"
	"testing"
	"time"

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
		if _, err := s.Add(wire.Measurement{Check: "check", At: span.Instant(i), Outcome: measure.OK, Detail: strings.Repeat("x", i%500)}); err != nil {
			panic(err)
		}
		fmt.Println(i)
	}
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
		list, last, err := s.Oldest(1 << 20)
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
			if err := s.Forget(last); err != nil {
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
		if _, failed = s.Add(wire.Measurement{Check: "check", At: span.Instant(added + 1), Outcome: measure.OK, Detail: strings.Repeat("x", 1000)}); failed == nil {
			added++
		}
	}
	if failed == nil || added == 0 {
		t.Fatalf("%d measurements fit into 512 KiB, %v", added, failed)
	}
	list, last, err := s.Oldest(10_000)
	if err != nil || len(list) != added {
		t.Fatalf("%d of %d measurements are there after the disk was full, %v", len(list), added, err)
	}
	if err := s.Forget(last / 2); err != nil {
		t.Fatalf("delivered measurements cannot be forgotten on a full disk: %v", err)
	}
	if _, err := s.Add(wire.Measurement{Check: "check", At: 1}); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}
