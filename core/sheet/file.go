package sheet

import (
	"cmp"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// Source is a file or a folder that a sheet names. It is found beside the sheet, and sent along with it.
type Source struct {
	Path   string // from the sheet's folder, with slashes
	Folder bool
}

func (s Source) String() string {
	if s.Folder {
		return "folder " + s.Path
	}
	return "file " + s.Path
}

// Content is what is in a file, or in the archive that a folder travels as.
type Content struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`             // in bytes
	Folder bool   `json:"folder,omitempty"` // it unpacks as one
}

// Sources returns what the sheet names beside it, by path, each once.
func (s Sheet) Sources() (sources []Source) {
	for _, step := range s.Steps {
		if named := step.source(); named.Path != "" {
			sources = append(sources, named)
		}
	}
	slices.SortFunc(sources, func(a, b Source) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.String(), b.String()))
	})
	return slices.Compact(sources)
}

func (s Step) source() Source {
	switch {
	case s.Script != nil:
		return Source{Path: s.Script.File}
	case s.Put != nil && s.Put.Folder != "":
		return Source{s.Put.Folder, true}
	case s.Put != nil:
		return Source{Path: s.Put.Source}
	}
	return Source{}
}

// Wrong are the problems of a sheet that was parsed, and whose sources have something wrong with them.
func (s Sheet) Wrong(sources map[Source]error) (ps Problems) {
	for i, step := range s.Steps {
		named := step.source()
		why, is := sources[named]
		if !is {
			continue
		}
		key := "put.file"
		if step.Script != nil {
			key = "script.file"
		} else if named.Folder {
			key = "put.folder"
		}
		at := s.places.Of(fmt.Sprintf("steps[%d].%s", i, key))
		ps = append(ps, Problem{at.Line, at.Column, fmt.Sprintf("the %s: %s", named, why)})
	}
	return ps
}

// WrongFiles are what is wrong with the files that a sheet names, one thing each.
type WrongFiles []string

func (w WrongFiles) Error() string { return strings.Join(w, "\n") }

// WithFiles returns the sheet as it is built: its scripts have their text, and
// what is put on the machine is known by its digest. There has to be a content
// for each source; read is asked for what is in a script.
func (s Sheet) WithFiles(contents map[string]Content, read func(Content) ([]byte, error)) (Sheet, error) {
	var wrong WrongFiles
	s.Steps = slices.Clone(s.Steps)
	for i, step := range s.Steps {
		named := step.source()
		if named.Path == "" {
			continue
		}
		content, there := contents[named.Path]
		switch {
		case !there:
			wrong = append(wrong, fmt.Sprintf("step %q: the %s was not sent along with the sheet", step.Name, named))
		case named.Folder && !content.Folder:
			wrong = append(wrong, fmt.Sprintf("step %q wants the %s, and what was sent is a file", step.Name, named))
		case step.Put != nil:
			put := *step.Put
			put.Content = &content
			s.Steps[i].Put = &put
		case content.Size > MostBytes:
			wrong = append(wrong, fmt.Sprintf("step %q: the script %s has %d bytes: at most %d are taken", step.Name,
				named.Path, content.Size, MostBytes))
		default:
			text, err := read(content)
			if err != nil {
				return s, err
			}
			script := *step.Script
			script.Text = string(text)
			if s.Steps[i].Script = &script; !begins(script.Text) {
				wrong = append(wrong, fmt.Sprintf("step %q: the script %s has to begin with the interpreter, such as "+
					"#!/bin/sh", step.Name, named.Path))
			}
		}
	}
	if len(wrong) > 0 {
		return s, wrong
	}
	return s, nil
}

// begins says whether a script begins with its interpreter: a program of the machine, or PowerShell in Windows guests.
func begins(text string) bool {
	line, _, _ := strings.Cut(text, "\n")
	return strings.HasPrefix(line, "#!/") || strings.TrimSpace(line) == "#!powershell"
}

// beside checks the path of a file or folder beside the sheet.
func (c *checker) beside(at, path string) {
	switch {
	case c.library == nil:
		c.at(at, "%s: a ready step has nothing beside it: write what is meant into it", at)
	case !fs.ValidPath(path) || path == "." || strings.Contains(path, "\\"):
		c.at(at, "%s: %q: write a path from the sheet's folder, with slashes and without .., such as files/fares.conf",
			at, path)
	}
}
