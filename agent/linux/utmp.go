//go:build linux

package linux

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"nimblepane/agent"
)

// utmpKey stands before the keys of sessions that utmp tells of, which are made
// of the terminal and the time of signing in: terminals are used again.
const utmpKey = "utmp:"

func (r record) key() string { return fmt.Sprintf("%s%s@%d", utmpKey, field(r.Line[:]), r.Seconds) }

// lineOf is the terminal of a key.
func lineOf(key string) string {
	line, _, _ := strings.Cut(strings.TrimPrefix(key, utmpKey), "@")
	return line
}

// record is glibc's struct utmp on 64-bit Linux, as utmp(5) describes it.
type record struct {
	Type     int16
	_        [2]byte
	PID      int32
	Line     [32]byte
	ID       [4]byte
	User     [32]byte
	Host     [256]byte
	Exit     [2]int16
	Session  int32
	Seconds  int32
	Micros   int32
	Address  [4]int32
	Reserved [20]byte
}

const userProcess = 7 // USER_PROCESS: somebody is signed in

// records reads the people's records of an utmp file. A file that is not there has none.
func records(path string) ([]record, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("neither logind nor %s is there, so nobody can tell who is signed in", path)
	}
	if err != nil {
		return nil, err
	}
	size := binary.Size(record{})
	if len(b)%size != 0 {
		return nil, fmt.Errorf("%s has %d bytes, which is no whole number of records of %d", path, len(b), size)
	}
	list := make([]record, len(b)/size)
	if err := binary.Read(bytes.NewReader(b), binary.LittleEndian, list); err != nil {
		return nil, err
	}
	var people []record
	for _, r := range list {
		if r.Type == userProcess {
			people = append(people, r)
		}
	}
	return people, nil
}

func field(b []byte) string { return strings.TrimRight(string(b), "\x00") }

func readUtmp(path string) ([]agent.Session, error) {
	people, err := records(path)
	if err != nil {
		return nil, err
	}
	sessions := []agent.Session{}
	for _, r := range people {
		sessions = append(sessions, agent.Session{
			Key: r.key(), Person: field(r.User[:]), State: agent.Active,
			Since: time.Unix(int64(r.Seconds), int64(r.Micros)*1000).UTC(),
		})
	}
	return sessions, nil
}
