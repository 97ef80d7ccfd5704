package sandbox

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"strconv"
)

// Task reads foreign data in a sandboxed process. It gets its request as JSON
// and writes its answer. Its error is the Failed of the job.
type Task func(request json.RawMessage, answer io.Writer) error

// Serve runs a task and exits, in a process that is to run one. In any other it
// returns at once. Packages with tasks call it from their init functions.
func Serve(tasks map[string]Task) {
	if len(os.Args) != 3 || os.Args[0] != taskStage {
		return
	}
	task, known := tasks[os.Args[1]]
	if !known {
		return // another package's
	}
	if memory, err := strconv.ParseInt(os.Args[2], 10, 64); err == nil {
		debug.SetMemoryLimit(memory * 3 / 4) // so that garbage is collected before the limit is reached
	}
	request, err := io.ReadAll(os.Stdin)
	if err == nil {
		err = task(request, os.Stdout)
	}
	if err != nil {
		fmt.Fprint(os.Stderr, failedMark, err)
		os.Exit(exitFailed)
	}
	os.Exit(0)
}
