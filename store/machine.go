package store

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nimblepane/core/estate"
	"nimblepane/core/machine"
)

// Machine is a build machine. Its record stays when it is gone.
type Machine struct {
	ID           int64
	SiteID       int64
	Name         string // one at its site, until it is gone
	BuildID      *int64 // that it belongs to, if to one
	BaseID       *int64 // the version that it is made from; nil if that is a base disk
	BaseDisk     string
	FromBaseID   *int64 // the base that it is made from, if from one: then BaseDisk is what that is called
	FromHost     string // the host that it is made from, if from one: then BaseID is what that was made from
	MachineClass string
	Cores        int   // 0: as its class says; so for memory, and disk as what it is made from
	Memory, Disk int64 // in bytes
	Purpose      string
	Owner        string // "" of one that was found at its site
	State        machine.State
	Why          string // what was last done to it failed
	AskedAt      time.Time
	StartedAt    *time.Time // since when it runs; nil while it is off
	RanSeconds   int64      // before that
	TouchedAt    time.Time
	WorkedAt     time.Time // when something was last done on it
	Notices      int       // given since it was touched
	NoticedAt    *time.Time
	GoneAt       *time.Time
	Checkpoints  JSON[[]Checkpoint] // in the order in which they were made
	Notes        JSON[[]MachineNote]
	// DrainOrder is the drain of the host that the machine is to be made from,
	// until its disk is copied or the host let go of; 0 then.
	DrainOrder int64
	Drained    bool // the host was drained for it
}

// MachineNote is what somebody wrote down while they worked on a machine.
type MachineNote struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Text string    `json:"text"`
}

// Noted is what was written down while the machine was worked on, a line each.
func (m Machine) Noted() string {
	lines := make([]string, len(m.Notes.V))
	for i, n := range m.Notes.V {
		lines[i] = n.Text
	}
	return strings.Join(lines, "\n")
}

// Checkpoint is a state that a machine can go back to.
type Checkpoint struct {
	Name   string    `json:"name"`
	MadeAt time.Time `json:"made_at"`
}

// Checkpoint returns the index of the machine's checkpoint of that name, -1 if it has none.
func (m Machine) Checkpoint(name string) int {
	return slices.IndexFunc(m.Checkpoints.V, func(c Checkpoint) bool { return c.Name == name })
}

// CheckpointNames are the names of the machine's checkpoints.
func (m Machine) CheckpointNames() (names []string) {
	for _, c := range m.Checkpoints.V {
		names = append(names, c.Name)
	}
	return names
}

// Keep notes a checkpoint, unless it is known.
func (m *Machine) Keep(name string, now time.Time) {
	if m.Checkpoint(name) < 0 {
		m.Checkpoints.V = append(m.Checkpoints.V, Checkpoint{name, now})
	}
}

// The kinds of works of machines that people look after.
const (
	WorkStartMachine WorkKind = "start-machine"
	WorkStopMachine  WorkKind = "stop-machine"
	WorkCopyHost     WorkKind = "copy-host"

	WorkCheckpointMachine WorkKind = "checkpoint-machine"
	WorkRevertMachine     WorkKind = "revert-machine"
	WorkCheckMachine      WorkKind = "check-machine" // by hand; those of builds are WorkInspectMachine
	WorkRepairMachine     WorkKind = "repair-machine"
	WorkTryStep           WorkKind = "try-step"
	WorkOpenOnMachine     WorkKind = "open-on-machine"
)

// MachineSubject is what a work of a machine is about that belongs to no build.
func MachineSubject(id int64) string { return fmt.Sprintf("machine %d", id) }

// Subject is what works on the machine are about.
func (m Machine) Subject() string {
	if m.BuildID != nil {
		return BuildSubject(*m.BuildID)
	}
	return MachineSubject(m.ID)
}

// Ran is for how long the machine has run altogether.
func (m Machine) Ran(now time.Time) time.Duration {
	ran := time.Duration(m.RanSeconds) * time.Second
	if m.StartedAt != nil {
		ran += now.Sub(*m.StartedAt)
	}
	return ran
}

// Become notes the state that the machine is in from now on.
func (m *Machine) Become(state machine.State, now time.Time) {
	m.State = state
	switch state {
	case machine.Running:
		if m.StartedAt == nil {
			m.StartedAt = &now
		}
	case machine.Off, machine.Sealed, machine.Gone:
		m.RanSeconds, m.StartedAt = int64(m.Ran(now)/time.Second), nil
	}
	if state == machine.Gone {
		m.GoneAt = &now
	}
}

// Work notes that somebody does something on the machine.
func (m *Machine) Work(now time.Time) { m.WorkedAt = now }

// Touch notes that somebody needs the machine.
func (m *Machine) Touch(now time.Time) { m.TouchedAt, m.Notices, m.NoticedAt = now, 0, nil }

// Known is the machine as decisions know it.
func (m Machine) Known() machine.Known {
	k := machine.Known{
		State: m.State, OfBuild: m.BuildID != nil || m.Owner == "", TouchedAt: m.TouchedAt, StartedAt: m.StartedAt,
		Notices: m.Notices,
	}
	if m.NoticedAt != nil {
		k.NoticedAt = *m.NoticedAt
	}
	return k
}

// AddMachine adds a machine; false if its site has one of that name.
func AddMachine(tx *Tx, m *Machine) (added bool, err error) {
	r := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(m)
	return r.RowsAffected == 1, r.Error
}

// LockMachine returns the machine and keeps others from changing it until the transaction ends, or ErrNotFound.
func LockMachine(db *gorm.DB, id int64) (Machine, error) {
	return first[Machine](db.Clauses(forChange), fmt.Sprintf("build machine %d", id), "id = ?", id)
}

// LockMachineAt is LockMachine of the machine that has the name at the site now.
func LockMachineAt(db *gorm.DB, site Site, name string) (Machine, error) {
	return first[Machine](db.Clauses(forChange), fmt.Sprintf("build machine %q at %s", name, site.Name),
		"site_id = ? and name = ? and gone_at is null", site.ID, name)
}

// LastMachine returns the machine that had a name at a site last before a time, or ErrNotFound.
func LastMachine(db *gorm.DB, site, name string, before time.Time) (m Machine, err error) {
	r := fresh(db).Raw(`select m.* from machines m join sites s on s.id = m.site_id where s.name = ? and m.name = ?
		and m.asked_at <= ? order by m.asked_at desc limit 1`, site, name, before).Scan(&m)
	if r.Error == nil && r.RowsAffected == 0 {
		return m, fmt.Errorf("build machine %q at %s: %w", name, site, ErrNotFound)
	}
	return m, r.Error
}

// MachineOfBuild returns the machine of a build, or ErrNotFound.
func MachineOfBuild(db *gorm.DB, id int64) (Machine, error) {
	return first[Machine](db, fmt.Sprintf("the machine of build %d", id), "build_id = ?", id)
}

// LockMachineOfBuild is MachineOfBuild, and keeps others from changing the machine until the transaction ends.
func LockMachineOfBuild(db *gorm.DB, id int64) (Machine, error) {
	return MachineOfBuild(db.Clauses(forChange), id)
}

// MachineByID returns the machine, or ErrNotFound.
func MachineByID(db *gorm.DB, id int64) (Machine, error) {
	return first[Machine](db, fmt.Sprintf("build machine %d", id), "id = ?", id)
}

// MachineRow is a machine with the names that are shown of it.
type MachineRow struct {
	Machine
	Site, Base string
}

// MachineFilter selects machines; empty fields select all.
type MachineFilter struct {
	Site, Name, Owner string
	Gone              bool // also those that are gone
	Before            int64
	Limit             int
}

// MachineRows returns machines, those that were asked for last first.
func MachineRows(db *gorm.DB, f MachineFilter) (rows []MachineRow, err error) {
	for column, value := range map[string]string{"s.name": f.Site, "m.name": f.Name, "m.owner": f.Owner} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	if !f.Gone {
		db = db.Where("m.gone_at is null")
	}
	if f.Before != 0 {
		db = db.Where("m.id < ?", f.Before)
	}
	if f.Limit > 0 {
		db = db.Limit(f.Limit)
	}
	err = db.Table("machines m").Select(`m.*, s.name as site,
			case when m.from_host <> '' then 'host ' || m.from_host || ', ' else '' end ||
			coalesce(i.name || ' ' || v.number, case when m.from_base_id is null then 'disk ' else 'base ' end || m.base_disk)
			as base`).
		Joins("join sites s on s.id = m.site_id").Joins("left join versions v on v.id = m.base_id").
		Joins("left join images i on i.id = v.image_id").Order("m.id desc").Scan(&rows).Error
	return rows, err
}

// LeftMachines returns the machines that are there and belong to people, and locks them.
func LeftMachines(tx *Tx) (rows []Machine, err error) {
	err = tx.Clauses(forChange).Where("gone_at is null and build_id is null and owner <> ''").Order("id").
		Find(&rows).Error
	return rows, err
}

// WaitingMachines returns the machines that wait for the host or base that they are made from, or have to let go of
// their host.
func WaitingMachines(db *gorm.DB) (rows []Machine, err error) {
	err = db.Where("drain_order <> 0 and state <> ? or state = ?", machine.Copying, machine.Waiting).Order("id").
		Find(&rows).Error
	return rows, err
}

// CopiedFor returns the build machine for which the host's disk is being copied; false if there is none.
func CopiedFor(db *gorm.DB, host string) (m Machine, is bool, err error) {
	return ofHost(db, host, machine.Copying)
}

func ofHost(db *gorm.DB, host string, state machine.State) (m Machine, is bool, err error) {
	var rows []Machine
	err = db.Where("from_host = ? and state = ?", host, state).Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return m, false, err
	}
	return rows[0], true, nil
}

// WaitsFor returns the build machine that waits for the host to be empty; false if none does.
func WaitsFor(db *gorm.DB, host string) (m Machine, waits bool, err error) {
	return ofHost(db, host, machine.Waiting)
}

// OpenWork says whether a work about the subject has not ended.
func OpenWork(db *gorm.DB, subject string) (open bool, err error) {
	err = db.Raw("select exists (select from works where subject = ? and state in ('asked', 'under way'))", subject).
		Scan(&open).Error
	return open, err
}

// Workshop returns what build machines cost, and what they are allowed.
func Workshop(db *gorm.DB) (estate.Workshop, error) {
	var row struct{ Terms JSON[estate.Workshop] }
	err := db.Raw("select terms from workshop").Scan(&row).Error
	return row.Terms.V, err
}

// SetWorkshop says what build machines cost from now on, and what they are allowed.
func SetWorkshop(tx *Tx, w estate.Workshop) error {
	return tx.Exec("update workshop set terms = ?", JSON[estate.Workshop]{V: w}).Error
}
