package versions

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"nimblepane/platform"
	"nimblepane/store"
)

// AskReading says what is asked of a platform for a work that reads a copy.
func (vs *Versions) AskReading(ctx context.Context, db *gorm.DB, w store.Work) (platform.Reading, error) {
	var in ofCopy
	if err := json.Unmarshal(w.Input, &in); err != nil {
		return platform.Reading{}, err
	}
	return vs.askReading(ctx, db, w, in)
}
