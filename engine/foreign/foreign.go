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

		taskTree:    task(gitTree),
		taskHistory: task(gitHistory),

		taskFolder: task(folderArchive),

		taskFeed:            feedFile,
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
	out, _, err = askUpTo[Out](ctx, mostAnswer, j)
	return out, err
}

// askUpTo is ask for an answer of so many bytes at most. It returns how many the answer has.
func askUpTo[Out any](ctx context.Context, most int64, j sandbox.Job) (out Out, size int64, err error) {
	var answer bytes.Buffer
	j.Read = func(r io.Reader) (err error) {
		size, err = answer.ReadFrom(io.LimitReader(r, most+1))
		if err == nil && size > most {
			err = &sandbox.Exceeded{Limit: fmt.Sprintf("%d MiB of answer", most>>20)}
		}
		return err
	}
	if err := j.Run(ctx); err != nil {
		return out, 0, err
	}
	if err := json.Unmarshal(answer.Bytes(), &out); err != nil {
		return out, 0, fmt.Errorf("read the answer of sandbox task %s: %w", j.Task, err)
	}
	return out, size, nil
}
