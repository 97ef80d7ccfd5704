// Package foreign reads what others made: disk images, archives, git packs and
// lists of vulnerabilities. Everything in it is parsed in a sandbox, see
// package nimblepane/sandbox. The functions start a sandboxed process and
// return its answer; the tasks beside them run there.
//
// An error for which sandbox.Final is true says that the data is refused, and
// why; another attempt ends the same way.
package foreign

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"

	"nimblepane/sandbox"
)

func init() {
	sandbox.Serve(map[string]sandbox.Task{
		taskDetect:  task(detect),
		taskInspect: task(inspect),

		taskVulnerabilities: vulnerabilities,
	})
}

// task is a sandbox task whose request and answer are JSON.
func task[In, Out any](do func(In) (Out, error)) sandbox.Task {
	return func(request json.RawMessage, answer io.Writer) error {
		var in In
		if err := json.Unmarshal(request, &in); err != nil {
			return err
		}
		out, err := do(in)
		if err != nil {
			return err
		}
		return json.NewEncoder(answer).Encode(out)
	}
}

// mostAnswer is how large the answer of a task may be that is read as a whole, in bytes.
const mostAnswer = 16 << 20

// ask runs a job and reads its answer.
func ask[Out any](ctx context.Context, j sandbox.Job) (out Out, err error) {
	var answer bytes.Buffer
	j.Read = func(r io.Reader) error {
		n, err := answer.ReadFrom(io.LimitReader(r, mostAnswer+1))
		if err == nil && n > mostAnswer {
			err = &sandbox.Exceeded{Limit: fmt.Sprintf("%d MiB of answer", mostAnswer>>20)}
		}
		return err
	}
	if err := j.Run(ctx); err != nil {
		return out, err
	}
	if err := json.Unmarshal(answer.Bytes(), &out); err != nil {
		return out, fmt.Errorf("read the answer of sandbox task %s: %w", j.Task, err)
	}
	return out, nil
}
