package rollovers

import (
	"errors"
	"fmt"
	"strings"

	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/store"
)

// RollPilotIn plans a rollover for each pool that follows the image's pilot, in the way of its last one, as part of a
// change. It says what came of that: a pool that cannot be rolled over now keeps none of the others from it.
func (rs *Rollovers) RollPilotIn(tx *store.Tx, img store.Image, reason string) (said string, err error) {
	pools, err := store.LockFollowers(tx.DB, img, []string{image.Pilot})
	if err != nil {
		return "", err
	}
	var lines []string
	for _, p := range pools {
		o, err := store.UsualOptions(tx.DB, p)
		if err != nil {
			return "", err
		}
		var refused *problem.Problem
		r, err := rs.startOne(tx, p, StartRequest{Options: o, Reason: reason})
		switch {
		case errors.As(err, &refused):
			lines = append(lines, "pool "+p.Name+" was not rolled over: "+refused.Error())
		case err != nil:
			return "", err
		default:
			lines = append(lines, fmt.Sprintf("%s takes pool %s to it", r.Name(), p.Name))
		}
	}
	if lines == nil {
		return "no pool follows " + image.Pilot + " of " + img.Name, nil
	}
	return strings.Join(lines, "; "), nil
}
