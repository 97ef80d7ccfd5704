// Package fuzzlimit bounds what one input of a fuzz test may use.
package fuzzlimit

import (
	"flag"
	"os"
	"regexp"
	"runtime/debug"
	"strconv"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// Limits of one input.
const (
	Memory = 200 << 20 // bytes of private writable memory, more than at the first input
	CPU    = time.Second
)

// arena is how much memory the runtime takes from the system at a time, in bytes.
const arena = 64 << 20

// Check is called at the start of a fuzz target; the function that it returns
// is called at its end. An input that takes more processor time than CPU fails.
// An input that takes more than Memory ends the process, and the fuzzer reports
// the input.
//
// The limits apply in worker processes of the fuzzer only. In another process
// other tests run at the same time, whose use cannot be told apart.
func Check(t testing.TB) (end func()) {
	t.Helper()
	if worker := flag.Lookup("test.fuzzworker"); worker == nil || worker.Value.String() != "true" {
		return func() {}
	}
	if err := bounded(); err != nil {
		t.Fatalf("limit the memory of the fuzzer: %v", err)
	}
	before := used(t)
	return func() {
		t.Helper()
		if took := used(t) - before; took > CPU {
			t.Errorf("the input takes %s of processor time, more than %s", took, CPU)
		}
	}
}

var data = regexp.MustCompile(`VmData:\s*(\d+) kB`)

// bounded sets the limit of memory, once for the process.
var bounded = sync.OnceValue(func() error {
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return err
	}
	kib, err := strconv.ParseUint(string(data.FindSubmatch(status)[1]), 10, 64)
	if err != nil {
		return err
	}
	debug.SetMemoryLimit(Memory * 3 / 4) // so that garbage is collected before the limit is reached
	most := kib<<10 + Memory + arena
	return unix.Setrlimit(unix.RLIMIT_DATA, &unix.Rlimit{Cur: most, Max: most})
})

// used is the processor time that the process has used.
func used(t testing.TB) time.Duration {
	var u unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &u); err != nil {
		t.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
