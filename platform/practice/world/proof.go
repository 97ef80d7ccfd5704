package world

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"strconv"
	"strings"
	"time"

	"nimblepane/core/proof"
	"nimblepane/platform"
)

// opening is how long an application takes to come up that the scenario does not know.
const opening = 2 * time.Second

func (a act) beginTryout(t platform.Tryout) (takes time.Duration, err error) {
	if err := a.canTry(t); err != nil {
		return 0, err
	}
	for range t.Applications {
		takes += opening
	}
	return takes + time.Duration(len(t.Proofs))*a.at.Spec.Knobs.Check, nil
}

// endTryout plays applications and scripts by what the scenario's scripts say of their text.
func (a act) endTryout(t platform.Tryout) (out platform.Tried, err error) {
	if err := a.canTry(t); err != nil {
		return out, err
	}
	shot, err := picture()
	if err != nil {
		return out, err
	}
	for _, app := range t.Applications {
		r := proof.Result{
			Name: app.Name, Kind: proof.OfApplication, Seconds: opening.Seconds(), Picture: shot,
		}
		s := a.spec(strings.Join(append([]string{app.Command}, app.Arguments...), " "))
		if s != nil && s.ExitCode != 0 {
			r.Why, r.Output = "within "+app.Within.String()+" it was not so that "+app.Opens.String(), s.Output
		}
		out.Results = append(out.Results, r)
	}
	for _, step := range t.Proofs {
		r := proof.Result{Name: step.Name, Kind: proof.OfProof, Seconds: a.at.Spec.Knobs.Check.Seconds()}
		if s := a.script(step); s != nil {
			if r.Output = s.Output; !step.Accepts(s.ExitCode) {
				r.Why = "it ended with exit code " + strconv.Itoa(s.ExitCode)
			}
		}
		out.Results = append(out.Results, r)
	}
	out.Picture = shot
	return out, nil
}

// canTry refuses what has no machine to be tried on.
func (a act) canTry(t platform.Tryout) error {
	if t.BuildMachine != "" {
		_, err := a.running(t.BuildMachine)
		return err
	}
	if _, there := a.state.Machines[t.Host]; !there {
		return refuse("host %s has no machine at %s", t.Host, a.Site)
	}
	return nil
}

// picture is what the display of a practice machine shows: a quay at night.
func picture() ([]byte, error) {
	const width, height, water = 320, 200, 140
	p := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{
		color.RGBA{0x1d, 0x2a, 0x3a, 0xff}, color.RGBA{0x2f, 0x5d, 0x6b, 0xff}, color.RGBA{0xe8, 0xc5, 0x6a, 0xff},
	})
	for y := range height {
		for x := range width {
			switch {
			case y >= water:
				p.SetColorIndex(x, y, 1)
			case y > water-30 && x%40 < 6 && x > 40:
				p.SetColorIndex(x, y, 2)
			}
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, p)
	return b.Bytes(), err
}

func (a act) discardHost(n platform.Named) (time.Duration, error) {
	a.shutDown(n.Name)
	return 0, nil
}
