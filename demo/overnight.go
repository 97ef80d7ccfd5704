package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"nimblepane/client"
	"nimblepane/core/build"
)

// The sheet that lives in the dock's repository. Its versions are not proved: that is told elsewhere, and takes
// minutes.
const overnightSheet = `image: quay-desk
base:
  vendor: {feed: dock, product: Dock Linux, release: "1"}
machine: {site: dry-dock}
steps:
  - name: Tides
    put: {file: tides.conf, to: /etc/tides.conf}
version: {notes-from-commits: true, stage: true, prove: false}
`

const vendorList = `publisher: Dock Works
products:
  - name: Dock Linux
    release: "1"
    serials: {"1": guest.vmdk}
`

// overnight has versions made by nobody: of a vendor's release that comes as VMDK, by a sheet in a git repository, at a
// time that is a minute ahead, and again when something was committed, and not without that.
func (r *realStory) overnight() error {
	r.say("A vendor publishes the guest's disk as VMDK, and the dock's sheet lives in a git repository.")
	feed := filepath.Join(r.dir, "feed")
	if out, err := exec.CommandContext(r.ctx, "qemu-img", "convert", "-f", "qcow2", "-O", "vmdk", "-o",
		"subformat=streamOptimized", r.guest, filepath.Join(feed, "guest.vmdk")).CombinedOutput(); err != nil {
		return fmt.Errorf("write the guest as VMDK: %w: %s", err, out)
	}
	if err := os.WriteFile(filepath.Join(feed, "feed.yaml"), []byte(vendorList), 0o600); err != nil {
		return err
	}
	if _, err := r.done("jonas", words(fmt.Sprintf("feed add dock http://127.0.0.1:%d/feed/", r.practice)),
		"Feed dock has 1 release."); err != nil {
		return err
	}
	repo := filepath.Join(r.repositories(), "dock")
	if err := os.Mkdir(repo, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(repo, "desk.yaml"), []byte(overnightSheet), 0o600); err != nil {
		return err
	}
	if err := errors.Join(r.git(repo, "init", "--quiet"), r.commit(repo, "ebb at noon")); err != nil {
		return err
	}
	if _, err := r.done("jonas", words("sheet follow night file://"+repo+" --file desk.yaml"),
		"it is as in commit"); err != nil {
		return err
	}
	pilot, live, err := r.tracks()
	if err != nil {
		return err
	}
	at := time.Now().UTC().Add(2 * time.Minute)
	r.say("Nobody starts the build of %s.", at.Format("15:04"))
	if _, err := r.done("jonas", append(words("schedule add night --sheet night --zone UTC --if-changed --yes --rule"),
		fmt.Sprintf("FREQ=DAILY;BYHOUR=%d;BYMINUTE=%d", at.Hour(), at.Minute())), "is written down"); err != nil {
		return err
	}
	first, err := r.startedBy("night", 1)
	if err != nil {
		return err
	}
	if first.StartedAt.Before(at.Truncate(time.Minute)) {
		return fmt.Errorf("the build of %s started at %s", at.Format("15:04"), first.StartedAt)
	}
	if err := r.ready(first, "ebb at noon"); err != nil {
		return err
	}
	if _, err := r.done("jonas", words("base show dock-linux-1-1"), "vmdk", "1 of feed dock", dock+", present",
		"pane-agent"); err != nil {
		return err
	}

	r.say("From now on a commit starts one, and nothing else does.")
	if _, err := r.done("jonas", words("schedule add tides --sheet night --on-changes"),
		"is written down"); err != nil {
		return err
	}
	if _, err := r.done("jonas", words("sheet look night"), "it is as in commit"); err != nil {
		return err
	}
	if err := r.commit(repo, "flood at noon"); err != nil {
		return err
	}
	if _, err := r.done("jonas", words("sheet look night"), "it is as in commit"); err != nil {
		return err
	}
	second, err := r.startedBy("tides", 1)
	if err != nil {
		return err
	}
	if err := r.ready(second, "flood at noon"); err != nil {
		return err
	}
	if _, err := r.done("jonas", words("sheet look night"), "it is as in commit"); err != nil {
		return err
	}
	s, err := r.seeder.people["jonas"].Schedule(r.ctx, "tides")
	if err != nil {
		return err
	}
	if len(s.Runs) != 1 {
		return fmt.Errorf("one commit started %d builds", len(s.Runs))
	}
	now, still, err := r.tracks()
	if err != nil {
		return err
	}
	if now == pilot || now == "" || still != live {
		return fmt.Errorf("pilot went from %q to %q, and live from %q to %q", pilot, now, live, still)
	}
	for _, name := range []string{"night", "tides"} {
		if _, err := r.done("jonas", words("schedule delete "+name+" --yes"), "is deleted"); err != nil {
			return err
		}
	}
	return nil
}

// startedBy waits until a schedule has started so many builds, and returns the last one.
func (r *realStory) startedBy(name string, builds int) (b client.WholeBuild, err error) {
	c := r.seeder.people["jonas"]
	err = until(r.ctx, "schedule "+name+" to start a build", func() (bool, error) {
		s, err := c.Schedule(r.ctx, name)
		if err != nil || len(s.Runs) < builds {
			return false, err
		}
		if s.Runs[0].Build == 0 {
			return false, fmt.Errorf("it started none: %s", s.Runs[0].Why)
		}
		b, err = c.Build(r.ctx, s.Runs[0].Build)
		return true, err
	})
	return b, err
}

// ready waits until a build has made and staged a version with the notes.
func (r *realStory) ready(b client.WholeBuild, notes string) error {
	c := r.seeder.people["jonas"]
	for b.State != build.Ready {
		if b.State.Ended() {
			return fmt.Errorf("build %d is %s: %s", b.ID, b.State, b.Why)
		}
		was := b.State
		if err := until(r.ctx, fmt.Sprintf("build %d, which is %s, to go on", b.ID, b.State), func() (bool, error) {
			now, err := c.Build(r.ctx, b.ID)
			b = now
			return b.State != was, err
		}); err != nil {
			return err
		}
	}
	v, err := c.Version(r.ctx, desk, b.Version)
	if err != nil {
		return err
	}
	if b.Commit == "" || !strings.Contains(v.Notes, notes) {
		return fmt.Errorf("version %s is of commit %q, and its notes are %q", v.Number, b.Commit, v.Notes)
	}
	_, err = r.done("jonas", words(fmt.Sprintf("build show %d", b.ID)), "Dock Works Dock Linux 1 1", b.Commit)
	return err
}

// tracks are the versions that pilot and live of the quay's desk name.
func (r *realStory) tracks() (pilot, live string, err error) {
	img, err := r.seeder.people["jonas"].Image(r.ctx, desk)
	if err != nil {
		return "", "", err
	}
	return img.Tracks[0].Version, img.Tracks[len(img.Tracks)-1].Version, nil
}

func (r *realStory) commit(repo, tides string) error {
	if err := os.WriteFile(filepath.Join(repo, "tides.conf"), []byte(tides+"\n"), 0o600); err != nil {
		return err
	}
	return errors.Join(r.git(repo, "add", "--all"), r.git(repo, "-c", "user.name=Jonas Lock", "-c",
		"user.email=jonas@ferries.example", "commit", "--quiet", "--message", tides))
}

func (r *realStory) git(repo string, args ...string) error {
	out, err := exec.CommandContext(r.ctx, "git", append([]string{"-C", repo}, args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, out)
	}
	return nil
}
