package disk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
)

// Partitions are how a disk is divided, and by what it is started.
type Partitions struct {
	Known      bool // it has a partition table
	BIOS, UEFI bool // can start it
	Parts      []Part

	end int64 // that the disk has to reach, in bytes
}

// Part is one part of a disk.
type Part struct {
	Number        int    // from 1
	Start, Length int64  // in bytes
	Encrypted     string // by what, "" if nothing is seen to
}

// Types of partitions, as they stand on a disk: the EFI system partition (UEFI
// Specification, 5.3.3), and the one that GRUB keeps itself in for BIOS.
var (
	efiSystem = []byte{0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b}
	biosBoot  = []byte("Hah!IdontNeedEFI")
	unused    = make([]byte, 16)
)

// TableSize is how much of a disk says how it is divided, in bytes: the master
// boot record, and a GUID partition table of 128 entries.
const TableSize = 34 * sector

// Table reads the partition table of a disk. Known is false for a disk without one.
func Table(disk io.ReaderAt) (p Partitions, err error) {
	head := make([]byte, TableSize)
	if _, err := disk.ReadAt(head, 0); err != nil && err != io.EOF {
		return p, err
	}
	return partitionsIn(head), nil
}

// Divided reads the partition table of a disk, and from the beginning of each
// partition how it is encrypted.
func Divided(disk io.ReaderAt) (p Partitions, err error) {
	if p, err = Table(disk); err != nil {
		return p, err
	}
	for i := range p.Parts {
		first := make([]byte, 16)
		if _, err := disk.ReadAt(first, p.Parts[i].Start); err != nil && err != io.EOF {
			return p, err
		}
		p.Parts[i].Encrypted = encryptedBy(first)
	}
	return p, nil
}

// partitionsIn reads the partition table from the beginning of a disk.
func partitionsIn(head []byte) (p Partitions) {
	if len(head) < TableSize || head[510] != 0x55 || head[511] != 0xaa {
		return p
	}
	le := binary.LittleEndian
	p.Known = true
	p.BIOS = !bytes.Equal(head[:440], make([]byte, 440)) // there is a program in it
	protective := false
	for n := range 4 {
		of := head[446+16*n:]
		kind, start, length := of[4], int64(le.Uint32(of[8:]))*sector, int64(le.Uint32(of[12:]))*sector
		p.UEFI = p.UEFI || kind == 0xef
		protective = protective || kind == 0xee
		if kind != 0 && kind != 0xee && start > 0 {
			p.add(n+1, start, length)
		}
	}
	if string(head[512:520]) != "EFI PART" {
		if protective {
			return Partitions{}
		}
		return p
	}
	p.Parts, p.end = nil, int64(min(le.Uint64(head[512+32:]), 1<<50)+1)*sector
	at, size := le.Uint64(head[512+72:])*sector, uint64(le.Uint32(head[512+84:]))
	if size < 128 || at < 2*sector || at > TableSize {
		return Partitions{}
	}
	for n := 1; at+size <= TableSize; n, at = n+1, at+size {
		of := head[at : at+size]
		if bytes.Equal(of[:16], unused) {
			continue
		}
		p.UEFI = p.UEFI || bytes.Equal(of[:16], efiSystem)
		p.BIOS = p.BIOS || bytes.Equal(of[:16], biosBoot)
		first, last := le.Uint64(of[32:]), le.Uint64(of[40:])
		if first > 0 && last >= first && last < 1<<50 {
			p.add(n, int64(first)*sector, int64(last-first+1)*sector)
		}
	}
	return p
}

func (p *Partitions) add(number int, start, length int64) {
	p.Parts = append(p.Parts, Part{Number: number, Start: start, Length: length})
	p.end = max(p.end, start+length)
}

// fit returns an error if the disk has fewer bytes than its partitions need.
func (p Partitions) fit(size int64) error {
	if p.end > size {
		return cutOff(p.end, size)
	}
	return nil
}

// Encrypted names the parts that are encrypted, and by what.
func (p Partitions) Encrypted() (parts []string) {
	for _, part := range p.Parts {
		if part.Encrypted != "" {
			parts = append(parts, fmt.Sprintf("part %d (%s)", part.Number, part.Encrypted))
		}
	}
	return parts
}
