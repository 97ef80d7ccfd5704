package foreign

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"nimblepane/core/base"
	"nimblepane/core/disk"
	"nimblepane/sandbox"
)

// Tasks on disks.
const (
	taskDetect  = "disk-detect"
	taskInspect = "disk-inspect"
)

// drivers are qemu-img's names of the formats.
var drivers = map[disk.Format]string{
	disk.Raw: "raw", disk.QCOW2: "qcow2", disk.VHD: "vpc", disk.VHDX: "vhdx", disk.VMDK: "vmdk",
}

// timeFor is how long a step may take that handles so many bytes: a minute, and a second for each so many of them.
func timeFor(size, perSecond int64) time.Duration {
	return time.Minute + time.Duration(size/perSecond)*time.Second
}

// DetectDisk says which format a disk image has, and how much it unpacks to.
func DetectDisk(ctx context.Context, file string, size int64) (disk.File, error) {
	return ask[disk.File](ctx, sandbox.Job{
		Task: taskDetect, Input: file,
		Limits: sandbox.Limits{CPU: timeFor(size, 1<<30), Wall: 5 * timeFor(size, 256<<20)},
	})
}

func detect(struct{}) (disk.File, error) {
	f, err := os.Open(sandbox.InputPath)
	if err != nil {
		return disk.File{}, err
	}
	info, err := f.Stat()
	if err != nil {
		return disk.File{}, err
	}
	return disk.Detect(f, info.Size())
}

var percentage = regexp.MustCompile(`\((\d+)\.\d+/100%\)`)

// ConvertDisk converts a disk image that unpacks to so many bytes to qcow2, in a
// file that exists and is replaced. It reports its progress in per cent.
func ConvertDisk(ctx context.Context, from string, found disk.File, to string, report func(percent int)) error {
	return sandbox.Job{
		Program: []string{
			"qemu-img", "convert", "-p", "-f", drivers[found.Format], "-O", "qcow2", "-o",
			"compat=1.1,lazy_refcounts=off", sandbox.InputPath, sandbox.OutputPath,
		},
		Input: from, Output: to,
		Limits: sandbox.Limits{
			Memory: 1 << 30, CPU: timeFor(found.Unpacked, 16<<20), Wall: 5 * timeFor(found.Unpacked, 4<<20),
			// Tables take less than a hundredth of a disk.
			File: found.Unpacked + found.Unpacked/64 + 64<<20,
		},
		Read: func(out io.Reader) error {
			buffer, rest := make([]byte, 4096), ""
			for {
				n, err := out.Read(buffer)
				rest += string(buffer[:n])
				for _, m := range percentage.FindAllStringSubmatch(rest, -1) {
					percent, _ := strconv.Atoi(m[1])
					report(percent)
				}
				if i := strings.LastIndexAny(rest, "\r\n"); i >= 0 || len(rest) > len(buffer) {
					rest = rest[max(i, 0):]
					rest = rest[:min(len(rest), len(buffer))]
				}
				if errors.Is(err, io.EOF) {
					return nil
				}
				if err != nil {
					return err
				}
			}
		},
	}.Run(ctx)
}

// inspection is a request to look into a qcow2 disk.
type inspection struct{ Systems bool }

// InspectDisk describes a qcow2 disk: its size, how it is started, and the
// operating system on it. A file system that cannot be read is left out.
func InspectDisk(ctx context.Context, file string, size int64) (facts base.Facts, err error) {
	for _, what := range []inspection{{true}, {false}} {
		facts, err = ask[base.Facts](ctx, sandbox.Job{
			Task: taskInspect, Request: what, Input: file,
			Limits: sandbox.Limits{CPU: timeFor(size, 1<<30), Wall: 5 * timeFor(size, 256<<20)},
		})
		var crashed *sandbox.Crashed
		var exceeded *sandbox.Exceeded
		if !errors.As(err, &crashed) && !errors.As(err, &exceeded) {
			break
		}
	}
	return facts, err
}

func inspect(what inspection) (facts base.Facts, err error) {
	f, err := os.Open(sandbox.InputPath)
	if err != nil {
		return facts, err
	}
	info, err := f.Stat()
	if err != nil {
		return facts, err
	}
	found, err := disk.Detect(f, info.Size())
	if err != nil {
		return facts, err
	}
	if found.Format != disk.QCOW2 {
		return facts, fmt.Errorf("it is a disk of format %s, and not qcow2", found.Format)
	}
	return look(f, what.Systems)
}

// look describes a qcow2 disk.
func look(f io.ReaderAt, systems bool) (base.Facts, error) {
	image, err := disk.OpenImage(f)
	if err != nil {
		return base.Facts{}, err
	}
	parts, err := disk.Divided(image)
	if err != nil {
		return base.Facts{}, err
	}
	facts := base.From(image.Size, parts)
	if systems {
		inside(image, parts, &facts)
	}
	return facts, nil
}
