package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/disk"
	"nimblepane/sandbox"
)

// fitsFirmware refuses a disk that machines of a class would never start from.
// A disk whose partition table cannot be read is not refused: whether it starts
// is found out when the machine starts.
func (s *Site) fitsFirmware(ctx context.Context, h *hypervisor, name string, k class, className string) error {
	var table disk.Partitions
	err := h.connected(ctx, func(l *libvirt.Libvirt) error {
		v, err := h.volume(l, name)
		if err != nil {
			return err
		}
		table, err = partitionTable(ctx, func(at, length int64) ([]byte, error) {
			var piece bytes.Buffer
			err := l.StorageVolDownload(v, &piece, uint64(at), uint64(length), 0)
			return piece.Bytes(), err
		})
		if err != nil && ctx.Err() == nil {
			s.log.Info("the partition table of a disk cannot be read", "disk", name, "err", err)
			err = nil
		}
		return err
	})
	switch {
	case err != nil:
		return err
	case table.Known && k.Firmware == "uefi" && !table.UEFI:
		return refuse("%s on %s has no EFI system partition, and machines of class %s are started by UEFI: take a "+
			"disk for UEFI, or a class that is started by BIOS", name, h.name, className)
	case table.Known && k.Firmware != "uefi" && !table.BIOS:
		return refuse("%s on %s has no boot loader for BIOS, and machines of class %s are started by BIOS: take a "+
			"disk for BIOS, or a class that is started by UEFI", name, h.name, className)
	}
	return nil
}

// Limits of reading a partition table, and how much of a disk is fetched at a
// time, in bytes. Where the tables of a qcow2 file are is known only from the
// file, which may be hostile.
const (
	mostFetches = 200
	mostFetched = 32 << 20
	fetchUnit   = 64 << 10
)

// piece is a part of a disk file that was fetched. Fetched pieces stand one
// after the other in the input of the sandbox task.
type piece struct {
	At     int64 // in the disk file, in bytes
	Length int64 // in bytes
	Asked  int64 // the length that was asked for: greater than Length at the end of the disk file
}

// tableAnswer is the answer of the sandbox task: a table, or the next piece that it needs.
type tableAnswer struct {
	Table  disk.Partitions
	Needed *piece
}

const taskTable = "partition-table"

func init() {
	sandbox.Serve(map[string]sandbox.Task{taskTable: func(request json.RawMessage, answer io.Writer) error {
		var pieces []piece
		if err := json.Unmarshal(request, &pieces); err != nil {
			return err
		}
		f, err := os.Open(sandbox.InputPath)
		if err != nil {
			return err
		}
		found, err := readTable(&partial{file: f, pieces: pieces})
		if err != nil {
			return err
		}
		return json.NewEncoder(answer).Encode(found)
	}})
}

// partitionTable reads the partition table in a qcow2 file of which pieces can
// be fetched. A sandboxed task parses the file, and asks for the pieces it needs.
func partitionTable(ctx context.Context, fetch func(at, length int64) ([]byte, error)) (t disk.Partitions, err error) {
	f, err := os.CreateTemp("", "nimblepane-table-")
	if err != nil {
		return t, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	var pieces []piece
	needed, fetched := piece{Asked: fetchUnit}, int64(0)
	for range mostFetches {
		if needed.At < 0 || needed.Asked <= 0 || needed.Asked > mostFetched-fetched {
			break
		}
		fetched += needed.Asked
		content, err := fetch(needed.At, needed.Asked)
		if err != nil {
			return t, fmt.Errorf("read %d bytes at byte %d: %w", needed.Asked, needed.At, err)
		}
		if _, err := f.Write(content); err != nil {
			return t, err
		}
		needed.Length = int64(len(content))
		pieces = append(pieces, needed)
		var raw bytes.Buffer
		err = sandbox.Job{
			Task: taskTable, Request: pieces, Input: f.Name(),
			Limits: sandbox.Limits{CPU: 10 * time.Second, Wall: time.Minute},
			Read: func(r io.Reader) error {
				_, err := raw.ReadFrom(io.LimitReader(r, fetchUnit))
				return err
			},
		}.Run(ctx)
		if err != nil {
			return t, err
		}
		var found tableAnswer
		if err := json.Unmarshal(raw.Bytes(), &found); err != nil {
			return t, fmt.Errorf("read the answer of sandbox task %s: %w", taskTable, err)
		}
		if found.Needed == nil {
			return found.Table, nil
		}
		needed = *found.Needed
	}
	return t, fmt.Errorf("it takes more than %d pieces or %d MiB of the file", mostFetches, mostFetched>>20)
}

// readTable reads the partition table of the disk in a qcow2 file, or returns the next piece that it needs.
func readTable(file *partial) (tableAnswer, error) {
	image, err := disk.OpenImage(file)
	var table disk.Partitions
	if err == nil {
		table, err = disk.Table(image)
	}
	if file.needed != nil {
		return tableAnswer{Needed: file.needed}, nil
	}
	table.Parts = nil // not used, and of any number
	return tableAnswer{Table: table}, err
}

// partial is a disk file of which some pieces were fetched.
type partial struct {
	file   io.ReaderAt
	pieces []piece
	needed *piece // a piece that was read and is not fetched
}

// ReadAt reads from the fetched pieces. Elsewhere it fails, and records the piece that is needed.
func (p *partial) ReadAt(b []byte, at int64) (n int, err error) {
	if at < 0 {
		return 0, fmt.Errorf("read at byte %d", at)
	}
	for n < len(b) {
		got, err := p.readPiece(b[n:], at+int64(n))
		n += got
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// readPiece reads from the piece that a byte is in, to the end of the piece at most.
func (p *partial) readPiece(b []byte, at int64) (int, error) {
	inFile := int64(0)
	for _, k := range p.pieces {
		in := at - k.At
		if in >= 0 && in < k.Length {
			b = b[:min(int64(len(b)), k.Length-in)]
			return p.file.ReadAt(b, inFile+in)
		}
		if in >= 0 && in < k.Asked {
			return 0, io.EOF
		}
		inFile += k.Length
	}
	start := at - at%fetchUnit
	end := at + int64(len(b)) + fetchUnit - 1
	p.needed = &piece{At: start, Asked: end - end%fetchUnit - start}
	return 0, io.ErrUnexpectedEOF
}
