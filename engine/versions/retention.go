package versions

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// Kept is what a rule says of a version.
type Kept struct {
	Number string
	Goes   bool
	Why    []string     // it is kept
	Sites  []string     // that have copies of it
	Bytes  int64        // that its copies take, and the disk that its capture made
	Frees  int64        // what of that goes
	Spare  []store.Copy // that are more than its sites are to have
}

// Retention says of each sealed version of an image, the newest first, whether it would go by a rule.
func Retention(db *gorm.DB, img store.Image, rule image.Retention, now time.Time) ([]Kept, error) {
	rows, err := store.Versions(db, img.ID)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(v store.Version) bool { return v.State != image.Sealed })
	slices.SortFunc(rows, func(a, b store.Version) int { return img.Numbering.Compare(b.Number, a.Number) })
	all := make([]image.Candidate, len(rows))
	for i, v := range rows {
		all[i] = image.Candidate{Number: v.Number, Sealed: v.CreatedAt, Barred: v.Barred != "", Tags: v.Tags}
		if v.SealedAt != nil {
			all[i].Sealed = *v.SealedAt
		}
	}
	copies, err := store.CopyRows(db, img.ID)
	if err != nil {
		return nil, err
	}
	of := map[int64][]store.Copy{} // by version
	sites := map[int64][]string{}
	for _, c := range copies {
		of[c.VersionID] = append(of[c.VersionID], c.Copy)
		if !slices.Contains(sites[c.VersionID], c.Site) {
			sites[c.VersionID] = append(sites[c.VersionID], c.Site)
		}
	}
	plans, err := store.CopyPlans(db, img.ID)
	if err != nil {
		return nil, err
	}
	why := rule.Judge(img.Numbering, all, now)
	out := make([]Kept, len(rows))
	for i, v := range rows {
		out[i] = Kept{
			Number: v.Number, Why: why[v.Number], Sites: sites[v.ID], Bytes: v.SizeBytes * int64(len(of[v.ID])+1),
		}
		if len(out[i].Why) == 0 {
			use, err := Uses(db, img, v)
			if err != nil {
				return nil, err
			}
			out[i].Why = use.WhyKeep()
		}
		if out[i].Goes = len(out[i].Why) == 0; out[i].Goes {
			out[i].Frees = out[i].Bytes
		} else if rule.On() {
			if out[i].Spare, err = spare(db, img, v, of[v.ID], plans); err != nil {
				return nil, err
			}
			out[i].Frees = int64(len(out[i].Spare)) * v.SizeBytes
		}
	}
	return out, nil
}

// spare returns the copies of a version that sites have beyond what they are to have, of one that hosts neither run nor
// are about to: no track names it, so that it is kept for later, or as the fallback.
func spare(db *gorm.DB, img store.Image, v store.Version, copies []store.Copy, plans []store.CopyPlanRow,
) (out []store.Copy, err error) {
	slices.SortStableFunc(copies, func(a, b store.Copy) int { // those that can be used stay first
		return strings.Compare(string(b.State), string(a.State))
	})
	for _, p := range plans {
		left := cmp.Or(v.Delivery.V.Copies, p.Copies)
		for _, c := range copies {
			if c.SiteID != p.SiteID || c.State != image.CopyPresent && c.State != image.CopyFailed {
				continue
			}
			if left--; left < 0 {
				out = append(out, c)
			}
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	use, err := Uses(db, img, v)
	if err != nil || len(use.Tracks)+len(use.Pools)+len(use.Hosts)+len(use.Doing) > 0 || use.Rollover != "" {
		return nil, err
	}
	return out, nil
}

// Going are the numbers of those that go.
func Going(all []Kept) (numbers []string) {
	for _, k := range all {
		if k.Goes {
			numbers = append(numbers, k.Number)
		}
	}
	return numbers
}

// CheckRetention returns the problem that says what is wrong with a rule, nil if nothing is.
func CheckRetention(rule image.Retention) error {
	err := rule.Check()
	if err == nil {
		return nil
	}
	return &problem.Problem{
		Type: problem.InvalidRequest, Detail: "the rule cannot be so", Reasons: strings.Split(err.Error(), "\n"),
	}
}

// SetRetention gives an image a rule, from now on. Shown are the numbers of the versions that the person saw go by it:
// if others would go by now, nothing is changed.
func (vs *Versions) SetRetention(ctx context.Context, actor, imageName string, rule image.Retention, shown []string,
) error {
	if err := CheckRetention(rule); err != nil {
		return err
	}
	return vs.engine.Change(ctx, actor, func(tx *store.Tx) error {
		img, err := store.LockImage(tx.DB, imageName)
		if err != nil {
			return err
		}
		all, err := Retention(tx.DB, img, rule, tx.Now)
		if err != nil {
			return err
		}
		going := Going(all)
		if !sameNumbers(going, shown) {
			return &problem.Problem{Type: problem.ChangedSinceRead, Detail: fmt.Sprintf(
				"by this rule %s would be retired now, and you were shown %s: look again, and repeat it if it is "+
					"still right",
				numbersOr(going, "no version"), numbersOr(shown, "none"))}
		}
		img.Retention.V = rule
		img.Revision++
		tx.Record(store.Entry{
			Verb: "image.retain", Subject: "image " + img.Name, Reason: "keeps " + rule.String(),
			Detail: map[string]any{"keep": rule.Keep, "days": rule.Days, "tagged": rule.Tagged},
		})
		if err := tx.Save(&img).Error; err != nil {
			return err
		}
		return tx.LookForVersionsToRetire(img.ID, tx.Now)
	})
}

func sameNumbers(a, b []string) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}

func numbersOr(numbers []string, none string) string {
	if len(numbers) == 0 {
		return none
	}
	return english.WordSeries(numbers, "and")
}

// tidyAgain is how long after an image's rule was looked at that is done again.
const tidyAgain = 10 * time.Minute

// tidy retires the versions that the rules of images do not keep and nobody needs.
func (vs *Versions) tidy(tx *store.Tx) error {
	due, err := store.ImagesToTidy(tx.DB, tx.Now)
	if err != nil {
		return err
	}
	for _, d := range due {
		img, err := store.LockImage(tx.DB, d.Name)
		if err != nil {
			return err
		}
		all, err := Retention(tx.DB, img, img.Retention.V, tx.Now)
		if err != nil {
			return err
		}
		for _, k := range all {
			if err := vs.tidyVersion(tx, img, k); err != nil {
				return err
			}
		}
		if err := tx.LookForVersionsToRetire(img.ID, tx.Now.Add(tidyAgain)); err != nil {
			return err
		}
	}
	return nil
}

// tidyVersion does what the image's rule says of a version.
func (vs *Versions) tidyVersion(tx *store.Tx, img store.Image, k Kept) error {
	if !k.Goes && len(k.Spare) == 0 {
		return nil
	}
	v, err := store.VersionNumbered(tx.DB, img, k.Number)
	if err != nil {
		return err
	}
	if k.Goes {
		if err := vs.retire(tx, img, &v, "by the image's rule, which keeps "+img.Retention.V.String()); err != nil {
			return err
		}
		return tx.Save(&v).Error
	}
	for _, c := range k.Spare {
		if err := errors.Join(tx.CopyLeaves(c.ID), vs.deleteCopy(tx, c)); err != nil {
			return err
		}
	}
	tx.Record(store.Entry{
		Verb: "version.thin", Subject: Subject(img, v), Reason: "its sites have more copies than they are to have",
		Detail: map[string]any{"copies": len(k.Spare)},
	})
	return nil
}
