package cli

import (
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// window returns the columns and lines of the window that is written to: as COLUMNS and LINES say, else as the terminal
// does, else without limit.
func window(out io.Writer) (columns, lines int) {
	columns, lines = math.MaxInt, math.MaxInt
	if f, is := out.(*os.File); is {
		if w, h, err := term.GetSize(int(f.Fd())); err == nil && w > 0 && h > 0 {
			columns, lines = w, h
		}
	}
	for name, n := range map[string]*int{"COLUMNS": &columns, "LINES": &lines} {
		if given, err := strconv.Atoi(os.Getenv(name)); err == nil && given > 0 {
			*n = given
		}
	}
	return columns, lines
}

// screen is a part of a terminal that is drawn again and again in its place.
type screen struct {
	out   io.Writer
	drawn []string // lines on the terminal
}

// draw replaces the content of the screen. It wraps lines at the width of the window, and omits lines beyond its
// height: the cursor cannot return to lines that have scrolled away.
func (s *screen) draw(lines []string) {
	columns, height := window(s.out)
	var broken []string
	for _, line := range lines {
		broken = append(broken, wrapped(line, columns)...)
	}
	if over := len(broken) - (height - 1); over > 0 && height > 2 {
		broken = append(broken[:height-2], fmt.Sprintf("... and %d more lines", over+1))
	}
	s.clear()
	fmt.Fprint(s.out, strings.Join(broken, "\n"))
	s.drawn = broken
}

// clear erases the content of the screen. A narrower window has wrapped its lines again.
func (s *screen) clear() {
	if len(s.drawn) == 0 {
		return
	}
	columns, _ := window(s.out)
	up := -1
	for _, line := range s.drawn {
		up += max(1, (text.StringWidthWithoutEscSequences(line)+columns-1)/columns)
	}
	if up > 0 {
		fmt.Fprintf(s.out, "\x1b[%dA", up)
	}
	fmt.Fprint(s.out, "\r\x1b[J")
	s.drawn = nil
}

// keep leaves the content on the terminal. The next output appears below it.
func (s *screen) keep() {
	if len(s.drawn) > 0 {
		fmt.Fprintln(s.out)
		s.drawn = nil
	}
}

// wrapped breaks a line into lines that are no wider, at spaces where it can.
func wrapped(line string, columns int) []string {
	if text.StringWidthWithoutEscSequences(line) <= columns {
		return []string{line}
	}
	lines := strings.Split(text.WrapSoft(line, columns), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return lines
}
