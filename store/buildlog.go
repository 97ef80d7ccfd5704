package store

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"
)

// LogLine is a line that a step of a build wrote.
type LogLine struct {
	Number  int64 // in the build's log, from 0
	At      time.Time
	Step    int // its index
	Attempt int
	Text    string
}

// logPiece is a row of build_logs.
type logPiece struct {
	BuildID  int64 `gorm:"primaryKey"`
	First    int64 `gorm:"primaryKey"`
	Lines    int64
	Step     int
	Attempt  int
	Work     string
	Consumed int64
	Content  []byte
}

func (logPiece) TableName() string { return "build_logs" }

// pieceLines is how many lines a piece takes before the next one is begun: few enough to be written anew each time
// that something is added, enough to be compressed well.
const pieceLines = 2000

// A compressor keeps its buffers, as many as it may use at a time: pieces are small, and one at a time is enough.
// Neither can fail with these options.
var (
	compressor, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10),
		zstd.WithLowerEncoderMem(true))
	decompressor, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0))
)

// LogConsumed returns how many bytes of what a work has written are in its build's log.
func LogConsumed(db *gorm.DB, build int64, work string) (n int64, err error) {
	err = db.Raw("select coalesce(max(consumed), 0) from build_logs where build_id = ? and work = ?", build, work).
		Scan(&n).Error
	return n, err
}

// AddLog adds lines that a try of a step wrote, up to consumed bytes of it, to a build's log.
func AddLog(db *gorm.DB, build int64, work Work, step int, consumed int64, at time.Time, lines []string) error {
	return db.Transaction(func(db *gorm.DB) error {
		var last logPiece
		err := db.Clauses(forChange).Where("build_id = ?", build).Order("first desc").Limit(1).Take(&last).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return fmt.Errorf("read the end of the log of build %d: %w", build, err)
		}
		if last.Work == work.Key && last.Consumed >= consumed {
			return nil // another process has added it
		}
		var text []byte
		goesOn := last.Work == work.Key && last.Lines < pieceLines
		if goesOn {
			if text, err = decompressor.DecodeAll(last.Content, nil); err != nil {
				return fmt.Errorf("unpack the end of the log of build %d: %w", build, err)
			}
		} else {
			last = logPiece{
				BuildID: build, First: last.First + last.Lines, Step: step, Attempt: work.Attempt, Work: work.Key,
			}
		}
		stamp := strconv.FormatInt(at.UnixMilli(), 10) + "\t"
		for _, line := range lines {
			text = append(append(append(text, stamp...), line...), '\n')
		}
		last.Lines += int64(len(lines))
		last.Consumed, last.Content = consumed, compressor.EncodeAll(text, nil)
		if goesOn {
			return db.Model(logPiece{}).Where("build_id = ? and first = ?", build, last.First).Updates(map[string]any{
				"lines": last.Lines, "consumed": last.Consumed, "content": last.Content,
			}).Error
		}
		return db.Create(&last).Error // which fails if another process has begun the same piece
	})
}

// LogLength returns how many lines a build's log has.
func LogLength(db *gorm.DB, build int64) (n int64, err error) {
	err = db.Raw("select coalesce(max(first + lines), 0) from build_logs where build_id = ?", build).Scan(&n).Error
	return n, err
}

// PruneLogs deletes the logs of builds that ended longer ago than their image keeps them.
func PruneLogs(tx *Tx) error {
	return tx.Exec(`delete from build_logs l using builds b, images i
		where b.id = l.build_id and i.id = b.image_id and b.settled and
			b.ended_at < ?::timestamptz - make_interval(secs => i.log_seconds)`, tx.Now).Error
}

// EachLogLine calls fn with the lines of a build's log from the number on, until
// fn returns false.
func EachLogLine(db *gorm.DB, build, from int64, fn func(LogLine) bool) error {
	for next := from; ; {
		var piece logPiece
		err := db.Where("build_id = ? and first + lines > ?", build, next).Order("first").Limit(1).Take(&piece).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the log of build %d: %w", build, err)
		}
		text, err := decompressor.DecodeAll(piece.Content, nil)
		if err != nil {
			return fmt.Errorf("unpack line %d and on of the log of build %d: %w", piece.First, build, err)
		}
		number := piece.First
		for line := range bytes.Lines(text) {
			if number >= next {
				stamp, rest, _ := strings.Cut(strings.TrimSuffix(string(line), "\n"), "\t")
				ms, err := strconv.ParseInt(stamp, 10, 64)
				if err != nil {
					return fmt.Errorf("line %d of the log of build %d has no time: %w", number, build, err)
				}
				if !fn(LogLine{number, time.UnixMilli(ms).UTC(), piece.Step, piece.Attempt, rest}) {
					return nil
				}
			}
			number++
		}
		next = piece.First + piece.Lines
	}
}
