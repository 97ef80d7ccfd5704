package flaw

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"nimblepane/core/strict"
)

// What a list may have at most.
const (
	MostOfList    = 256 << 20 // bytes of its file
	MostKept      = 1 << 30   // bytes of all its records, as they are kept
	mostUnpacked  = 4 << 30   // bytes of what is in an archive
	mostDirectory = 64 << 20  // bytes of an archive's directory
	mostRecords   = 500_000
	mostProblems  = 20
	mostOfProblem = 300 // characters
)

// Problems are what is wrong with a list, each with the file that it is in.
type Problems []string

func (p Problems) Error() string { return strings.Join(p, "\n") }

// reader reads a list within its limits. It keeps one record at a time, and the identifiers of all.
type reader struct {
	each     func(Record) error
	seen     map[string]bool
	problems Problems
}

// Read reads a list of so many bytes: a zip of records as files *.json in any folder, or one file that is a record or
// an array of them. Each has every record in turn. The error is Problems, or that of each.
func Read(list io.ReaderAt, size int64, each func(Record) error) (n int, err error) {
	r := reader{each: each, seen: map[string]bool{}}
	begin := make([]byte, 2)
	if _, err := list.ReadAt(begin, 0); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	if string(begin) == "PK" {
		err = r.archive(list, size)
	} else {
		err = r.file(io.NewSectionReader(list, 0, size))
	}
	n = len(r.seen)
	switch {
	case err != nil && !errors.Is(err, errEnough):
		return n, err
	case len(r.problems) > 0:
		return n, r.problems
	case n == 0:
		return 0, Problems{"it has no record: it is a zip with files *.json, or one such file, in the OSV format"}
	}
	return n, nil
}

// errEnough ends the reading of a list that has many problems.
var errEnough = errors.New("enough")

// record reads one record.
func (r *reader) record(file string, text []byte) error {
	record, err := Parse(text)
	if err == nil && r.seen[record.ID] {
		err = fmt.Errorf("%s is in the list twice", record.ID)
	}
	if err != nil {
		problem := file + ": " + err.Error()
		if r.problems = append(r.problems, problem[:min(len(problem),
			mostOfProblem)]); len(r.problems) >= mostProblems {
			return errEnough
		}
		return nil
	}
	if r.seen[record.ID] = true; len(r.seen) > mostRecords {
		return Problems{fmt.Sprintf("it has more than %d records", mostRecords)}
	}
	return r.each(record)
}

// file reads a record, or an array of them one after the other.
func (r *reader) file(list io.Reader) error {
	buffered := bufio.NewReader(list)
	for {
		b, err := buffered.Peek(1)
		if err != nil || !bytes.ContainsAny(b, " \t\r\n") {
			break
		}
		_, _ = buffered.Discard(1)
	}
	if b, _ := buffered.Peek(1); string(b) != "[" {
		text, err := io.ReadAll(io.LimitReader(buffered, MostOfRecord+1))
		if err != nil {
			return err
		}
		return r.record("the file", text)
	}
	// A value is in memory as a whole before its size is known, so that a decoder is given no more than one can have.
	limited := &limitedReader{from: buffered}
	decoder := json.NewDecoder(limited)
	broken := func(err error) error {
		if errors.Is(err, errTooLong) {
			return Problems{fmt.Sprintf("record %d has more than %d bytes", len(r.seen)+1, MostOfRecord)}
		}
		return Problems{"the file is no array of records: " + strict.JSON(err).Error()}
	}
	limited.left = MostOfRecord
	if _, err := decoder.Token(); err != nil {
		return broken(err)
	}
	for n := 1; ; n++ {
		limited.left = MostOfRecord + 64<<10 // and what the decoder reads ahead
		if !decoder.More() {
			break
		}
		var text json.RawMessage
		if err := decoder.Decode(&text); err != nil {
			return broken(err)
		}
		if err := r.record(fmt.Sprintf("record %d", n), text); err != nil {
			return err
		}
	}
	limited.left = 1 << 10
	if _, err := decoder.Token(); err != nil {
		return broken(err)
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return Problems{"the file has something behind its array of records"}
	}
	return nil
}

// limitedReader returns errTooLong after so many bytes.
type limitedReader struct {
	from io.Reader
	left int64
}

var errTooLong = errors.New("a record is too long")

func (l *limitedReader) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooLong
	}
	n, err := l.from.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

func (r *reader) archive(list io.ReaderAt, size int64) error {
	if err := checkDirectory(list, size); err != nil {
		return err
	}
	archive, err := zip.NewReader(list, size)
	if err != nil {
		return Problems{"it is no zip that can be read: " + err.Error()}
	}
	left := int64(mostUnpacked)
	for _, f := range archive.File {
		if !strings.HasSuffix(f.Name, ".json") || f.FileInfo().IsDir() {
			continue
		}
		name := fmt.Sprintf("%.100q", f.Name)
		content, err := f.Open()
		if err != nil {
			return Problems{name + ": " + err.Error()}
		}
		// What it says of its size is not believed.
		text, err := io.ReadAll(io.LimitReader(content, min(MostOfRecord+1, left+1)))
		content.Close()
		if err != nil {
			return Problems{name + ": " + err.Error()}
		}
		if left -= int64(len(text)); left < 0 {
			return Problems{fmt.Sprintf("there is more than %d GiB in it", mostUnpacked>>30)}
		}
		if err := r.record(name, text); err != nil {
			return err
		}
	}
	return nil
}

// checkDirectory refuses an archive whose directory is too large to be held in memory: a reader holds all of it. The
// size of the directory is that between its start and the end of the file, by the end record of "APPNOTE.TXT", 4.3.16.
func checkDirectory(list io.ReaderAt, size int64) error {
	const record, most = 22, 64<<10 + 22
	tail := make([]byte, min(size, most))
	if _, err := list.ReadAt(tail, size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+record > len(tail) {
		return Problems{"it is no zip that can be read: its end is missing"}
	}
	end := tail[at:]
	entries := int(end[10]) | int(end[11])<<8
	directory := int64(end[12]) | int64(end[13])<<8 | int64(end[14])<<16 | int64(end[15])<<24
	if entries == 0xffff || directory == 0xffffffff { // a zip64 says both elsewhere: then all of it could be directory
		directory = size
	}
	if directory > mostDirectory {
		return Problems{fmt.Sprintf("the zip's directory has more than %d MiB: make it several lists, or one file "+
			"that "+
			"is an array", mostDirectory>>20)}
	}
	return nil
}
