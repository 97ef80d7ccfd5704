package store

import (
	"fmt"
	"path"
	"reflect"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/secret"
)

// Repository is where a kept sheet comes from that lives in a git repository.
type Repository struct {
	ID           int64
	SheetID      int64
	Address      string
	Branch       string // at most one of these three: the repository's own choice if none
	Tag          string
	Commit       string
	Folder       string // that the sheet is in, "" for the repository's own
	File         string // of the sheet, in the folder
	Credential   JSON[Credential]
	Announced    JSON[*secret.Source] // what announcements are signed with; nil if there are none
	EverySeconds int64
	AddedBy      string
	Tip          string     // the commit that was seen last
	LookedAt     *time.Time // last
	SeenAt       *time.Time // last without an error
	Why          string     // the sheet could not be taken from there last
	Gone         bool       // because what was seen there is no such sheet: it is not built
}

// Credential says where the service finds what it shows to a repository.
type Credential struct {
	User       string         `json:"user,omitempty"`
	Password   *secret.Source `json:"password,omitempty"`    // over HTTPS; a token is one, too
	Key        *secret.Source `json:"key,omitempty"`         // a private key, for SSH
	KnownHosts *secret.Source `json:"known_hosts,omitempty"` // in the form of OpenSSH, for SSH
}

// Of says what of the repository is followed, in words.
func (r Repository) Of() string {
	switch {
	case r.Branch != "":
		return "branch " + r.Branch
	case r.Tag != "":
		return "tag " + r.Tag
	case r.Commit != "":
		return "commit " + r.Commit
	}
	return "its default branch"
}

// Path is that of the sheet in the repository.
func (r Repository) Path() string { return path.Join(r.Folder, r.File) }

// Refs are the names that what is followed may have in the repository, what counts first first; none for a commit.
func (r Repository) Refs() []string {
	switch {
	case r.Branch != "":
		return []string{"refs/heads/" + r.Branch}
	case r.Tag != "": // what a tag that is of its own names comes before that
		return []string{"refs/tags/" + r.Tag + "^{}", "refs/tags/" + r.Tag}
	case r.Commit != "":
		return nil
	}
	return []string{"HEAD"}
}

// Same says whether the same is followed, and shown the same.
func (r Repository) Same(as Repository) bool {
	return r.Address == as.Address && r.Branch == as.Branch && r.Tag == as.Tag && r.Commit == as.Commit &&
		r.Path() == as.Path() && reflect.DeepEqual(r.Credential, as.Credential)
}

// Commit is one of a repository.
type Commit struct {
	Hash    string `json:"hash"`
	Subject string `json:"subject"`
}

// RepositoryByID returns the repository, or ErrNotFound.
func RepositoryByID(db *gorm.DB, id int64) (Repository, error) {
	return first[Repository](db, fmt.Sprintf("repository %d", id), "id = ?", id)
}

// LockRepositoryByID is RepositoryByID, and keeps others from changing it until the transaction ends.
func LockRepositoryByID(db *gorm.DB, id int64) (Repository, error) {
	return RepositoryByID(db.Clauses(forChange), id)
}

// RepositoryOf returns the repository that a kept sheet comes from, or ErrNotFound.
func RepositoryOf(db *gorm.DB, sheetID int64) (Repository, error) {
	return first[Repository](fresh(db), "the repository of that sheet", "sheet_id = ?", sheetID)
}

// Repositories returns all of them, by the ids of their sheets.
func Repositories(db *gorm.DB) (map[int64]Repository, error) {
	var rows []Repository
	err := db.Order("id").Find(&rows).Error
	of := map[int64]Repository{}
	for _, r := range rows {
		of[r.SheetID] = r
	}
	return of, err
}

// SheetByID returns the sheet, or ErrNotFound.
func SheetByID(db *gorm.DB, id int64) (Sheet, error) {
	return first[Sheet](db, fmt.Sprintf("sheet %d", id), "id = ?", id)
}

// LockSheetByID is SheetByID, and keeps others from changing the sheet until the transaction ends.
func LockSheetByID(db *gorm.DB, id int64) (Sheet, error) { return SheetByID(db.Clauses(forChange), id) }

// LastCommitBuilt is the commit of the image's last build that became ready and was of one, "" if there was none.
func LastCommitBuilt(db *gorm.DB, imageID int64) (commit string, err error) {
	err = fresh(db).Raw(`select commit from builds where image_id = ? and state = 'ready' and commit <> ''
		order by id desc limit 1`, imageID).Scan(&commit).Error
	return commit, err
}
