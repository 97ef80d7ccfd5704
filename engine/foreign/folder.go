package foreign

import (
	"bufio"
	"context"
	"os"
	"time"

	"nimblepane/core/pack"
	"nimblepane/sandbox"
)

const taskFolder = "folder-archive"

// CheckFolder returns nil if a file is an archive of a folder that can be unpacked (see pack.Check).
func CheckFolder(ctx context.Context, file string) error {
	_, err := ask[struct{}](ctx, sandbox.Job{
		Task: taskFolder, Input: file, Request: struct{}{},
		Limits: sandbox.Limits{CPU: 2 * time.Minute, Wall: 10 * time.Minute},
	})
	return err
}

func folderArchive(struct{}) (none struct{}, err error) {
	f, err := os.Open(sandbox.InputPath)
	if err != nil {
		return none, err
	}
	defer f.Close()
	return none, pack.Check(bufio.NewReaderSize(f, 1<<20))
}
