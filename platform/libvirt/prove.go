package libvirt

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/proof"
	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// host returns the guest of a host's machine, once that answers.
func (s *Site) host(ctx context.Context, name string) (g guest, m machine, err error) {
	f, there, err := s.find(ctx, name)
	switch {
	case err != nil:
		return g, m, err
	case !there || !f.machine.ours(kindHost):
		return g, m, refuse("host %s has no machine at %s", name, s.name)
	case !f.machine.active():
		return g, m, refuse("the machine of host %s is off", name)
	}
	g = guest{hypervisor: f.hypervisor, domain: f.machine.domain}
	return g, f.machine, g.up(ctx, s.limits.start)
}

// tried returns the guest that something is tried on.
func (s *Site) tried(ctx context.Context, t platform.Tryout) (g guest, m machine, err error) {
	if t.BuildMachine == "" {
		return s.host(ctx, t.Host)
	}
	if g, err = s.running(ctx, t.BuildMachine); err != nil {
		return g, m, err
	}
	f, there, err := s.find(ctx, t.BuildMachine)
	if err == nil && !there {
		err = refuse("there is no build machine %q at %s", t.BuildMachine, s.name)
	}
	return g, f.machine, err
}

// tryHost tries what is on a host, and gives up when all that may take longer is over.
func (s *Site) tryHost(ctx context.Context, key string, t platform.Tryout, report func(int)) (out platform.Tried,
	err error,
) {
	limit := s.limits.start + pictureTakes
	for _, a := range t.Applications {
		limit += time.Duration(a.Within) + stepGrace
	}
	for _, p := range t.Proofs {
		limit += time.Duration(p.TimeLimit) + stepGrace
	}
	within, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	out, err = s.tryAll(within, key, t, report)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		err = refuse("it did not come to an end within %s: %s", limit, err)
	}
	return out, err
}

// tryAll opens applications and runs scripts on a host, one after the other, each as a step that is found again.
func (s *Site) tryAll(ctx context.Context, key string, t platform.Tryout, report func(int)) (out platform.Tried,
	err error,
) {
	g, m, err := s.tried(ctx, t)
	if err != nil {
		return out, explain(err)
	}
	how := []string{"open"}
	if t.BuildMachine != "" {
		how = append(how, "--clear")
	}
	all := len(t.Applications) + len(t.Proofs)
	for _, a := range t.Applications {
		report(90 * len(out.Results) / all)
		r, err := s.openOn(ctx, g, how, a)
		if err != nil {
			return out, explain(err)
		}
		out.Results = append(out.Results, r)
	}
	if len(m.xml.Devices.Graphics) > 0 {
		out.Picture = s.picture(ctx, g)
	}
	for _, p := range t.Proofs {
		report(90 * len(out.Results) / all)
		began := time.Now()
		r := proof.Result{Name: p.Name, Kind: proof.OfProof}
		ended, err := stepFor(g, key+" proof "+p.Name).run(ctx, p, nil, time.Duration(p.TimeLimit))
		if refused := (*platform.Refusal)(nil); errors.As(err, &refused) {
			r.Why, err = refused.Why, nil
		} else if err == nil && !p.Accepts(ended.ExitCode) {
			r.Why = fmt.Sprintf("it ended with exit code %d", ended.ExitCode)
		}
		if err != nil {
			return out, explain(err)
		}
		r.Seconds, r.Output = time.Since(began).Seconds(), ended.Output
		out.Results = append(out.Results, r)
	}
	return out, nil
}

// openOn has pane-agent open an application, and reads what became of it.
func (s *Site) openOn(ctx context.Context, g guest, how []string, a sheet.Application) (r proof.Result, err error) {
	text, err := json.Marshal(a)
	if err != nil {
		return r, err
	}
	r = proof.Result{Name: a.Name, Kind: proof.OfApplication}
	limit := time.Duration(a.Within) + stepGrace
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	o, err := g.exec(limited, platform.Command{Path: agentPath, Args: how, Input: text})
	switch {
	case err != nil && limited.Err() != nil && ctx.Err() == nil:
		r.Why = fmt.Sprintf("pane-agent did not say within %s whether it opened", limit)
		return r, nil
	case err != nil:
		return r, err
	case o.ExitCode != 0:
		r.Why = "pane-agent could not open it: " + string(bytes.TrimSpace(o.Errors))
		return r, nil
	}
	if len(o.Output) > platform.MostOfPicture {
		r.Why = fmt.Sprintf("pane-agent printed more than %d bytes about it", platform.MostOfPicture)
		return r, nil
	}
	if err := json.Unmarshal(storable(o.Output), &r); err != nil {
		r.Why = fmt.Sprintf("pane-agent printed %.200q, and not whether it opened", o.Output)
	}
	r.Name, r.Kind = a.Name, proof.OfApplication
	return r, nil
}

// pictureTakes is how long it may take to take a picture.
const pictureTakes = 30 * time.Second

// picture takes a picture of a machine's display. Without one the proof goes on.
func (s *Site) picture(ctx context.Context, g guest) []byte {
	var shot bytes.Buffer
	limited, cancel := context.WithTimeout(ctx, pictureTakes)
	defer cancel()
	err := g.hypervisor.dedicated(limited, func(l *libvirt.Libvirt) error {
		// The library looks for the answer's words in the stream's end, where they are not, and calls that an error.
		if _, err := l.DomainScreenshot(g.domain, &shot, 0, 0); err != nil && shot.Len() == 0 {
			return err
		}
		return nil
	})
	var picture []byte
	if err == nil {
		picture, err = asPNG(shot.Bytes())
	}
	if err != nil || len(picture) > platform.MostOfPicture {
		s.log.Warn("no picture was taken of a machine's display", "machine", g.domain.Name, "bytes", len(picture),
			"err", err)
		return nil
	}
	return picture
}

// mostPixels is the most of a display, each way.
const mostPixels = 1 << 14

// asPNG returns a picture as PNG that is one, or a portable pixmap (P6, as
// netpbm describes it) of 8 bits a sample: QEMU makes either, by its version.
func asPNG(shot []byte) ([]byte, error) {
	if bytes.HasPrefix(shot, []byte("\x89PNG")) {
		// A small PNG can claim dimensions that take a viewer gigabytes of memory.
		c, err := png.DecodeConfig(bytes.NewReader(shot))
		if err != nil {
			return nil, fmt.Errorf("the picture is no PNG: %w", err)
		}
		if c.Width > mostPixels || c.Height > mostPixels {
			return nil, fmt.Errorf("a picture of %d by %d pixels is not taken: at most %d each way", c.Width, c.Height,
				mostPixels)
		}
		return shot, nil
	}
	in := bytes.NewReader(shot)
	var width, height, most int
	if _, err := fmt.Fscanf(in, "P6\n%d %d\n%d", &width, &height, &most); err != nil {
		return nil, fmt.Errorf("the picture is neither PNG nor a portable pixmap: %w", err)
	}
	in.ReadByte() // the one blank before the samples
	rest := shot[len(shot)-in.Len():]
	if most != 255 || width <= 0 || height <= 0 || width > mostPixels || height > mostPixels ||
		len(rest) < 3*width*height {
		return nil, fmt.Errorf("a portable pixmap of %d by %d with samples to %d in %d bytes is not read", width,
			height, most, len(rest))
	}
	p := image.NewRGBA(image.Rect(0, 0, width, height))
	for i := range width * height {
		p.Pix[4*i], p.Pix[4*i+1], p.Pix[4*i+2], p.Pix[4*i+3] = rest[3*i], rest[3*i+1], rest[3*i+2], 255
	}
	var out bytes.Buffer
	err := png.Encode(&out, p)
	return out.Bytes(), err
}

// discardHost deletes a host's machine.
func (s *Site) discardHost(ctx context.Context, _ string, n platform.Named, _ func(int)) (done platform.Nothing,
	err error,
) {
	f, there, err := s.find(ctx, n.Name)
	if err != nil || !there {
		return done, explain(err)
	}
	if !f.machine.ours(kindHost) {
		return done, notOurs(n.Name, f.hypervisor)
	}
	return done, explain(f.hypervisor.connected(ctx, func(l *libvirt.Libvirt) error {
		return f.hypervisor.erase(l, n.Name)
	}))
}
