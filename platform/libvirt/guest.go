package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/platform"
)

// guest speaks to QEMU's guest agent in a machine, as its protocol reference
// describes (guest-exec, guest-file-open and so on). It needs no network.
type guest struct {
	hypervisor *hypervisor
	domain     libvirt.Domain
	windows    bool
}

// agentCall is how long the guest agent may take to answer one command, in seconds.
const agentCall = 20

// longestCommand is how long a command to the guest agent may be, in bytes. It has to fit
// into the buffer of the socket between libvirt and QEMU as one: the rest of a longer one
// has been seen not to arrive, and the agent to wait for it, deaf to all else.
const longestCommand = 96 << 10

func (g guest) call(ctx context.Context, command string, arguments, into any) error {
	text, err := json.Marshal(map[string]any{"execute": command, "arguments": arguments})
	if arguments == nil {
		text, err = json.Marshal(map[string]any{"execute": command})
	}
	if err != nil {
		return err
	}
	if len(text) > longestCommand {
		return refuse("%s in %s takes %d bytes with its arguments, environment and input, and %d are possible: put "+
			"what is long there as a file first", command, g.domain.Name, len(text), longestCommand)
	}
	var reply libvirt.OptString
	err = g.hypervisor.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		reply, err = l.QEMUDomainAgentCommand(g.domain, string(text), agentCall, 0)
		return err
	})
	if err != nil {
		return err
	}
	if len(reply) == 0 {
		return fmt.Errorf("guest agent of %s: %s was answered with nothing", g.domain.Name, command)
	}
	answer := struct {
		Return any `json:"return"`
	}{into}
	return json.Unmarshal([]byte(reply[0]), &answer)
}

// absent says that the error is that of a machine whose guest agent does not answer (yet).
func absent(err error) bool {
	var answer libvirt.Error
	return errors.As(err, &answer) && libvirt.ErrorNumber(answer.Code) == libvirt.ErrAgentUnresponsive
}

// up waits until the guest agent answers.
func (g guest) up(ctx context.Context, limit time.Duration) error {
	end := time.Now().Add(limit)
	for {
		var ignored any
		err := g.call(ctx, "guest-ping", nil, &ignored)
		if err == nil {
			return nil
		}
		if !absent(err) {
			return err
		}
		if time.Now().After(end) {
			return refuse("the guest agent of %s did not answer within %s of its start: look at the machine's "+
				"console; it has to start, and to have qemu-guest-agent installed", g.domain.Name, limit)
		}
		if err := pause(ctx, time.Second); err != nil {
			return err
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// lost is the error of a program that was begun, and of which the machine knows
// nothing any more: it went down meanwhile. Doing it again is for who asked for it.
type lost struct{ machine, why string }

func (l *lost) Error() string {
	return fmt.Sprintf("%s went down while a program ran in it (%s)", l.machine, l.why)
}

// exec runs a program and waits for its end.
func (g guest) exec(ctx context.Context, c platform.Command) (o platform.Outcome, err error) {
	arguments := map[string]any{"path": c.Path, "arg": append([]string{}, c.Args...), "capture-output": true}
	if len(c.Env) > 0 {
		arguments["env"] = c.Env
	}
	if len(c.Input) > 0 {
		arguments["input-data"] = base64.StdEncoding.EncodeToString(c.Input)
	}
	var begun struct {
		PID int `json:"pid"`
	}
	if err := g.call(ctx, "guest-exec", arguments, &begun); err != nil {
		return o, err
	}
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		var status struct {
			Exited   bool   `json:"exited"`
			ExitCode int    `json:"exitcode"`
			Signal   int    `json:"signal"`
			Out      []byte `json:"out-data"`
			Err      []byte `json:"err-data"`
		}
		err := g.call(ctx, "guest-exec-status", map[string]any{"pid": begun.PID}, &status)
		switch {
		case err != nil && !absent(err) && asAnswer(err) && strings.Contains(err.Error(), "guest-exec-status"):
			return o, &lost{g.domain.Name, err.Error()}
		case err != nil && !absent(err):
			return o, err
		case err == nil && status.Exited:
			if status.Signal != 0 {
				status.ExitCode = 128 + status.Signal // as a shell says it
			}
			return platform.Outcome{ExitCode: status.ExitCode, Output: status.Out, Errors: status.Err}, nil
		}
		if err := pause(ctx, wait); err != nil {
			return o, err
		}
	}
}

// fileBlock is what one command carries of a file, in bytes.
const fileBlock = longestCommand / 2

func (g guest) open(ctx context.Context, path, mode string) (handle int, err error) {
	err = g.call(ctx, "guest-file-open", map[string]any{"path": path, "mode": mode}, &handle)
	return handle, err
}

func (g guest) shut(ctx context.Context, handle int) error {
	var ignored any
	return g.call(ctx, "guest-file-close", map[string]any{"handle": handle}, &ignored)
}

func (g guest) put(ctx context.Context, path string, content io.Reader) (err error) {
	handle, err := g.open(ctx, path, "w")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, g.shut(context.WithoutCancel(ctx), handle)) }()
	buffer := make([]byte, fileBlock)
	for {
		n, err := io.ReadFull(content, buffer)
		if n > 0 {
			var written any
			if err := g.call(ctx, "guest-file-write", map[string]any{
				"handle":  handle,
				"buf-b64": base64.StdEncoding.EncodeToString(buffer[:n]),
			}, &written); err != nil {
				return err
			}
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return nil
		case err != nil:
			return err
		}
	}
}

func (g guest) get(ctx context.Context, path string, into io.Writer) (err error) {
	handle, err := g.open(ctx, path, "r")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, g.shut(context.WithoutCancel(ctx), handle)) }()
	for {
		var block struct {
			Content []byte `json:"buf-b64"`
			End     bool   `json:"eof"`
		}
		if err := g.call(ctx, "guest-file-read", map[string]any{"handle": handle, "count": fileBlock},
			&block); err != nil {
			return err
		}
		if _, err := into.Write(block.Content); err != nil || block.End {
			return err
		}
	}
}

// shutdown asks the machine to shut down, by its guest agent and else by its
// power button, and waits until it is off. It asks again every few seconds, in
// case the machine was starting and did not hear.
func (g guest) shutdown(ctx context.Context, limit time.Duration) error {
	const step, steps = 300 * time.Millisecond, 10
	begun := time.Now()
	for n := 0; ; n++ {
		off := false
		err := g.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
			state, _, err := l.DomainGetState(g.domain, 0)
			off = libvirt.DomainState(state) == libvirt.DomainShutoff ||
				libvirt.DomainState(state) == libvirt.DomainCrashed
			if err != nil || off || n%steps != 0 {
				return err
			}
			// What libvirt answers to the request is no matter: whether it is off is what counts.
			if err := l.DomainShutdownFlags(g.domain, libvirt.DomainShutdownGuestAgent); err != nil {
				_ = l.DomainShutdownFlags(g.domain, libvirt.DomainShutdownAcpiPowerBtn)
			}
			return nil
		})
		switch {
		case err != nil || off:
			return err
		case time.Since(begun) > limit:
			return refuse("%s did not shut down within %s: see on its console what keeps it", g.domain.Name, limit)
		}
		if err := pause(ctx, step); err != nil {
			return err
		}
	}
}
