package strict

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// YAMLProblem is what a YAML text holds that is not taken, and where.
type YAMLProblem struct {
	Place
	Path string // of what is wrong, as far as it is known: "steps[2].install"
	Text string
}

// Place is where something stands in a text, both from 1.
type Place struct{ Line, Column int }

func (p *YAMLProblem) Error() string { return fmt.Sprintf("line %d: %s", p.Line, p.Text) }

const (
	yamlDepth  = 16   // of [ and {, and of dashes on one line
	yamlIndent = 80   // columns
	yamlKeys   = 1000 // of one mapping: a parser takes a time that grows with their square
)

const notWhole = "%s is not a whole number; if it is meant as a text, put it in quotes"

// fraction is what YAML takes for a number and a lexer for a text.
var fraction = regexp.MustCompile(`^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$`)

var decimal = regexp.MustCompile(`^-?(0|[1-9][0-9]*)$`)

// CheckYAML returns nil if a text is one plain document: nothing in it stands
// for something else (anchors, aliases, tags), numbers are whole and written in
// decimal, and nothing is nested so deep, or has so many keys, that a parser
// would take its time. A decoder takes 1.5 for 1, 017 for 15, and passes over a second document.
func CheckYAML(text []byte) *YAMLProblem {
	if !utf8.Valid(text) {
		return &YAMLProblem{Place: Place{1, 1}, Text: "the text is not UTF-8"}
	}
	line, column := 1, 0
	for _, r := range string(text) {
		column++
		if r == '\n' {
			line, column = line+1, 0
		} else if r < ' ' && r != '\t' && r != '\r' || r == 0x7f {
			return &YAMLProblem{Place: Place{line, column}, Text: "there is a control character"}
		}
	}
	var flow, dashes, dashesAt int
	var keys keyCount
	var before *token.Token
	begun := false
	for _, t := range lexer.Tokenize(string(text)) {
		problem := func(format string, args ...any) *YAMLProblem {
			return &YAMLProblem{
				Place: Place{t.Position.Line, t.Position.Column}, Text: fmt.Sprintf(format, args...),
			}
		}
		switch t.Type {
		case token.CommentType, token.SpaceType:
			continue
		case token.DocumentHeaderType:
			if begun {
				return problem("a second document begins here: write one only")
			}
		case token.MappingValueType:
			if before != nil && keys.add(before.Position.Column, flow) > yamlKeys {
				return problem("more than %d keys stand together", yamlKeys)
			}
		case token.SequenceStartType, token.MappingStartType:
			if flow++; flow > yamlDepth {
				return problem("it is nested deeper than %d", yamlDepth)
			}
		case token.SequenceEndType, token.MappingEndType:
			flow--
			keys.end(flow)
		case token.SequenceEntryType:
			keys.next(t.Position.Column)
			if dashesAt != t.Position.Line {
				dashes, dashesAt = 0, t.Position.Line
			}
			if dashes++; dashes > yamlDepth {
				return problem("it is nested deeper than %d", yamlDepth)
			}
		case token.AnchorType, token.AliasType, token.MergeKeyType, token.TagType:
			return problem("anchors, aliases and tags are not taken: write it out")
		case token.FloatType, token.InfinityType, token.NanType:
			return problem(notWhole, shown(t.Value))
		case token.StringType:
			if fraction.MatchString(strings.TrimSpace(t.Value)) {
				return problem(notWhole, shown(t.Value))
			}
		case token.IntegerType, token.OctetIntegerType, token.HexIntegerType, token.BinaryIntegerType:
			if !decimal.MatchString(t.Value) {
				return problem("%s could be taken for several numbers: write it in decimal, without zeros before "+
					"it; if it is meant as a text, put it in quotes", shown(t.Value))
			}
		}
		if t.Position.IndentNum > yamlIndent {
			return problem("it is indented by more than %d columns", yamlIndent)
		}
		begun = true
		before = t
	}
	return nil
}

// keyCount counts the keys of the mappings that a token stands in.
type keyCount struct {
	block []struct{ column, keys int } // from the outermost in
	flow  [yamlDepth + 1]int           // by how deep in [ and {
}

// add counts a key and returns how many its mapping has by now.
func (k *keyCount) add(column, flow int) int {
	if flow > 0 {
		k.flow[flow]++
		return k.flow[flow]
	}
	k.next(column)
	if n := len(k.block); n == 0 || k.block[n-1].column < column {
		k.block = append(k.block, struct{ column, keys int }{column: column})
	}
	last := &k.block[len(k.block)-1]
	last.keys++
	return last.keys
}

// next ends the mappings that are indented by more than the column.
func (k *keyCount) next(column int) {
	for n := len(k.block); n > 0 && k.block[n-1].column > column; n-- {
		k.block = k.block[:n-1]
	}
}

// end ends what is deeper in [ and { than that.
func (k *keyCount) end(flow int) {
	k.flow[max(0, flow)+1] = 0
}

// shown cuts a value for a message.
func shown(s string) string {
	if len(s) > 40 {
		s = s[:40] + "..."
	}
	return s
}
