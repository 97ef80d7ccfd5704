package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/software"
	"nimblepane/platform"
)

// contents is what was in a machine when it was sealed. It is a volume of its own:
// first beside the machine's disk, then beside the version's.
type contents struct {
	Software []byte `json:"software,omitempty"` // a document of core/software, packed
	Unlisted string `json:"unlisted,omitempty"` // why there is none
}

// listPath is where pane-agent writes it in the machine. It goes with the machine's memory.
const listPath = "/run/nimblepane-software.json.gz"

// listSoftware has pane-agent list what is in a machine that runs, and keeps
// that. That it cannot is no reason not to seal the machine: it is written down.
func (s *Site) listSoftware(ctx context.Context, g guest, machine string, commands []string) error {
	limited, cancel := context.WithTimeout(ctx, s.limits.seal)
	defer cancel()
	in, err := g.listSoftware(limited, commands)
	switch {
	case err == nil:
	case ctx.Err() == nil && errors.Is(limited.Err(), context.DeadlineExceeded):
		in = contents{Unlisted: fmt.Sprintf("pane-agent did not list it within %s", s.limits.seal)}
	case asAnswer(err) && !absent(err):
		in = contents{Unlisted: "pane-agent did not list it: " + err.Error()}
	default:
		return err
	}
	return g.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		return g.hypervisor.keepListed(l, machine, in)
	})
}

func (g guest) listSoftware(ctx context.Context, commands []string) (in contents, err error) {
	args := []string{"software", "--to", listPath}
	for _, c := range commands {
		args = append(args, "--command", c)
	}
	o, err := g.exec(ctx, platform.Command{Path: agentPath, Args: args})
	if err != nil {
		return in, err
	}
	if o.ExitCode != 0 {
		return contents{Unlisted: "pane-agent did not list it: " + firstLineOf(o.Errors)}, nil
	}
	var out bytes.Buffer
	if err := g.get(ctx, listPath, &limitedTo{&out, software.MostOfPacked}); err != nil {
		if errors.Is(err, errTooLong) {
			return contents{Unlisted: fmt.Sprintf("the list has more than %d bytes", software.MostOfPacked)}, nil
		}
		return in, err
	}
	return contents{Software: out.Bytes()}, nil
}

func firstLineOf(text []byte) string {
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return line
}

var errTooLong = errors.New("more has come than is taken")

// limitedTo takes so many bytes and no more.
type limitedTo struct {
	*bytes.Buffer
	left int
}

func (l *limitedTo) Write(p []byte) (int, error) {
	if l.left -= len(p); l.left < 0 {
		return 0, errTooLong
	}
	return l.Buffer.Write(p)
}

// keepListed writes what was in a machine beside its disk, or a version's.
func (h *hypervisor) keepListed(l *libvirt.Libvirt, name string, in contents) error {
	text, err := json.Marshal(in)
	if err != nil {
		return err
	}
	_, err = h.write(l, name+listEnding, text)
	return err
}

// listedIn reads it. Of what was sealed before lists were made there is none.
func (h *hypervisor) listedIn(l *libvirt.Libvirt, name string) (in contents, err error) {
	v, err := h.volume(l, name+listEnding)
	if notFound(err) {
		return contents{Unlisted: "it was sealed before what is in a version was listed"}, nil
	}
	if err != nil {
		return in, err
	}
	d, err := describe(l, v)
	if err != nil {
		return in, err
	}
	var text bytes.Buffer
	if err := download(l, v, &text, 0, d.physical()); err != nil {
		return in, err
	}
	if err := json.Unmarshal(text.Bytes(), &in); err != nil {
		return contents{Unlisted: "what was listed cannot be read: " + err.Error()}, nil
	}
	return in, nil
}
