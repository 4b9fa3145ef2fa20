// Package ticks counts time on this machine as nobody can set it: from its start,
// through sleep too, and the same for every process.
package ticks

import (
	"crypto/rand"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Count is how long ago this machine was started (CLOCK_BOOTTIME of clock_gettime(2)).
func Count() time.Duration {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Since(began) // a kernel from before 2.6.39; Start then names this process
	}
	return time.Duration(ts.Nano())
}

var began = time.Now()

// Start names this start of the machine: counts under one name go on, those under
// two cannot be compared. Where the kernel does not tell, it names the process.
var Start = sync.OnceValue(func() string {
	var ts unix.Timespec
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if name := strings.TrimSpace(string(text)); err == nil && name != "" && unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts) == nil {
		return name
	}
	return rand.Text()
})
