package flaw

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// What a list may have at most.
const (
	MostOfList    = 256 << 20 // bytes of its archive
	mostUnpacked  = 4 << 30   // bytes of what is in it
	mostRecords   = 500_000
	mostProblems  = 20
	mostOfProblem = 300 // characters
)

// Problems are what is wrong with a list, each with the file that it is in.
type Problems []string

func (p Problems) Error() string { return strings.Join(p, "\n") }

// Read reads a list: a zip of records as files *.json, wherever in it, or one file that is a record or an array of
// them. Each has every record in turn. The error is Problems, or that of each.
func Read(list []byte, each func(Record) error) (n int, err error) {
	var problems Problems
	seen := map[string]string{}
	read := func(file string, text []byte) error {
		r, err := Parse(text)
		if err == nil && seen[r.ID] != "" {
			err = fmt.Errorf("%s is in %s already", r.ID, seen[r.ID])
		}
		if err != nil {
			problem := file + ": " + err.Error()
			problems = append(problems, problem[:min(len(problem), mostOfProblem)])
			return nil
		}
		if seen[r.ID] = file; len(seen) > mostRecords {
			return Problems{fmt.Sprintf("it has more than %d records", mostRecords)}
		}
		n++
		return each(r)
	}
	if bytes.HasPrefix(list, []byte("PK")) {
		err = readArchive(list, func(file string, text []byte) error {
			if len(problems) >= mostProblems {
				return errEnough
			}
			return read(file, text)
		})
	} else {
		err = readFile(list, read)
	}
	switch {
	case err != nil && !errors.Is(err, errEnough):
		return n, err
	case len(problems) > 0:
		return n, problems
	case n == 0:
		return 0, Problems{"it has no record: it is a zip with files *.json, or one such file, in the OSV format"}
	}
	return n, nil
}

// errEnough ends the reading of a list that has many problems.
var errEnough = errors.New("enough")

func readFile(list []byte, read func(string, []byte) error) error {
	var records []json.RawMessage
	if !bytes.HasPrefix(bytes.TrimSpace(list), []byte("[")) {
		return read("the file", list)
	}
	if err := json.Unmarshal(list, &records); err != nil {
		return Problems{"the file is no array of records: " + err.Error()}
	}
	for i, r := range records {
		if err := read(fmt.Sprintf("record %d", i+1), r); err != nil {
			return err
		}
	}
	return nil
}

func readArchive(list []byte, read func(string, []byte) error) error {
	archive, err := zip.NewReader(bytes.NewReader(list), int64(len(list)))
	if err != nil {
		return Problems{"it is no zip that can be read: " + err.Error()}
	}
	left := int64(mostUnpacked)
	for _, f := range archive.File {
		if !strings.HasSuffix(f.Name, ".json") || f.FileInfo().IsDir() {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return Problems{fmt.Sprintf("%.100q: %s", f.Name, err)}
		}
		// What it says of its size is not believed.
		text, err := io.ReadAll(io.LimitReader(r, min(MostOfRecord+1, left+1)))
		r.Close()
		if err != nil {
			return Problems{fmt.Sprintf("%.100q: %s", f.Name, err)}
		}
		if left -= int64(len(text)); left < 0 {
			return Problems{fmt.Sprintf("there is more than %d GiB in it", mostUnpacked>>30)}
		}
		if err := read(fmt.Sprintf("%.100q", f.Name), text); err != nil {
			return err
		}
	}
	return nil
}
