package api

import (
	"context"
	"math"
	"slices"
	"time"

	"gorm.io/gorm"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/engine/builds"
	"nimblepane/engine/schedules"
	"nimblepane/store"
)

type SchedulePath struct {
	Schedule string `path:"schedule"`
}

const (
	datesShown = 5
	runsShown  = 20
	// perSchedule is how many dates of one schedule a calendar shows at most.
	perSchedule = 500
)

func (s *Server) schedules() {
	asked := func(in client.NewSchedule) schedules.Request {
		return schedules.Request{
			Name: in.Name, Sheet: in.Sheet, Mode: in.Mode, Rule: in.Rule, Zone: in.Zone, Params: in.Values,
		}
	}
	register(s, operation{
		method: "GET", path: "/schedules", id: "list-schedules", role: role.Viewer, tag: "builds",
		summary: "When builds of kept sheets start by themselves, by name",
	},
		func(ctx context.Context, _ *struct{}) (*body[client.Page[client.Schedule]], error) {
			db := s.store.DB.WithContext(ctx)
			rows, err := store.Schedules(db)
			if err != nil {
				return nil, err
			}
			list := make([]client.Schedule, len(rows))
			for i, row := range rows {
				if list[i], err = scheduleOut(db, row, 1); err != nil {
					return nil, err
				}
				list[i].Runs = nil
			}
			return ok(client.Page[client.Schedule]{Items: list}, nil)
		})
	register(s, operation{
		method: "POST", path: "/schedules/dates", on: onNothing, id: "show-dates", role: role.Viewer, tag: "builds",
		summary: "The next five dates of a rule; nothing is kept",
	},
		func(_ context.Context, in *struct{ Body client.NewSchedule }) (*body[client.ScheduleDates], error) {
			dates, err := s.Schedules.Dates(asked(in.Body), datesShown)
			return ok(client.ScheduleDates{Dates: append([]time.Time{}, dates...)}, err)
		})
	register(s, operation{
		method: "POST", path: "/schedules", id: "add-schedule", made: "/schedules/{name}", role: role.Operator,
		tag: "builds", status: 201,
		summary: "Have builds of a kept sheet start by themselves; the schedule is yours",
	},
		func(ctx context.Context, in *struct{ Body client.NewSchedule }) (*body[client.Schedule], error) {
			if _, err := s.Schedules.Add(ctx, actor(ctx), asked(in.Body)); err != nil {
				return nil, err
			}
			return ok(s.wholeSchedule(ctx, in.Body.Name))
		})
	register(s, operation{
		method: "GET", path: "/schedules/{schedule}", id: "show-schedule", role: role.Viewer, tag: "builds",
		summary: "A schedule, with its next dates and what its last runs came to",
	},
		func(ctx context.Context, in *SchedulePath) (*body[client.Schedule], error) {
			return ok(s.wholeSchedule(ctx, in.Schedule))
		})
	register(s, operation{
		method: "DELETE", path: "/schedules/{schedule}", id: "delete-schedule", dry: true, role: role.Operator,
		tag:     "builds",
		summary: "Forget a schedule; builds that it started stay", status: 204,
	},
		func(ctx context.Context, in *SchedulePath) (*empty, error) {
			return done(s.Schedules.Delete(ctx, actor(ctx), in.Schedule))
		})
	type act struct {
		SchedulePath
		Body client.Reason
	}
	register(s, operation{
		method: "POST", path: "/schedules/{schedule}/pause", id: "pause-schedule", role: role.Operator, tag: "builds",
		summary: "Keep a schedule from starting builds, for a reason",
	},
		func(ctx context.Context, in *act) (*body[client.Schedule], error) {
			if _, err := s.Schedules.Pause(ctx, actor(ctx), in.Schedule, in.Body.Reason); err != nil {
				return nil, err
			}
			return ok(s.wholeSchedule(ctx, in.Schedule))
		})
	register(s, operation{
		method: "POST", path: "/schedules/{schedule}/resume", id: "resume-schedule", role: role.Operator, tag: "builds",
		summary: "Have a schedule start builds again, from its next date on",
	},
		func(ctx context.Context, in *act) (*body[client.Schedule], error) {
			if _, err := s.Schedules.Resume(ctx, actor(ctx), in.Schedule); err != nil {
				return nil, err
			}
			return ok(s.wholeSchedule(ctx, in.Schedule))
		})
	register(s, operation{
		method: "GET", path: "/calendar", id: "show-calendar", role: role.Viewer, tag: "builds",
		summary: "What will start by itself, in order",
	},
		func(ctx context.Context, in *struct {
			Days int `query:"days" minimum:"1" maximum:"366" default:"60" doc:"From now on"`
		},
		) (*body[client.Page[client.ComingBuild]], error) {
			list, err := s.calendar(ctx, in.Days)
			return ok(client.Page[client.ComingBuild]{Items: list}, err)
		})
}

func (s *Server) wholeSchedule(ctx context.Context, name string) (out client.Schedule, err error) {
	db := s.store.DB.WithContext(ctx)
	row, err := store.ScheduleNamed(db, name)
	if err != nil {
		return out, err
	}
	if out, err = scheduleOut(db, row, runsShown); err != nil {
		return out, err
	}
	for _, c := range schedules.Calendar([]store.Schedule{row}, s.engine.Clock.Now(), farAway, datesShown) {
		out.Dates = append(out.Dates, c.At)
	}
	return out, nil
}

// farAway is later than any date that is shown.
var farAway = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)

func scheduleOut(db *gorm.DB, s store.Schedule, most int) (out client.Schedule, err error) {
	kept, err := store.SheetNamed(db, s.Sheet)
	if err != nil {
		return out, err
	}
	runs, err := store.ScheduleRuns(db, s.ID, most)
	if err != nil {
		return out, err
	}
	out = client.Schedule{
		Name: s.Name, Sheet: s.Sheet, Image: kept.Image, Mode: s.Mode, Rule: s.Rule, Zone: s.Zone, NextAt: s.NextAt,
		Values: s.Params.V, Owner: s.Owner, Paused: s.Paused, PausedBy: s.PausedBy, PausedAt: s.PausedAt,
		Waits: s.Waits,
	}
	for _, r := range runs {
		run := client.ScheduleRun{At: r.At, DueAt: r.DueAt, State: r.State, Version: r.Version, Why: r.Why}
		if r.BuildID != nil {
			run.Build = *r.BuildID
		}
		out.Runs = append(out.Runs, run)
	}
	if len(out.Runs) > 0 {
		out.Last = &out.Runs[0]
	}
	return out, nil
}

// calendar is what starts by itself in so many days, with how long that takes by what earlier builds took.
func (s *Server) calendar(ctx context.Context, days int) ([]client.ComingBuild, error) {
	db, now := s.store.DB.WithContext(ctx), s.engine.Clock.Now()
	rows, err := store.Schedules(db)
	if err != nil {
		return nil, err
	}
	list := []client.ComingBuild{}
	of := map[int64]client.ComingBuild{}
	for _, c := range schedules.Calendar(rows, now, now.AddDate(0, 0, days), perSchedule) {
		b, known := of[c.Schedule.ID]
		if !known {
			b = client.ComingBuild{Schedule: c.Schedule.Name, Sheet: c.Schedule.Sheet, Mode: c.Schedule.Mode}
			if b.Image, b.Takes, err = s.takes(db, c.Schedule.Sheet); err != nil {
				return nil, err
			}
			of[c.Schedule.ID] = b
		}
		b.At = c.At
		list = append(list, b)
	}
	slices.SortStableFunc(list, func(a, b client.ComingBuild) int { return a.At.Compare(b.At) })
	return list, nil
}

// takes is how long a build of a kept sheet takes, in seconds, 0 if nothing says so.
func (s *Server) takes(db *gorm.DB, sheet string) (image string, seconds float64, err error) {
	kept, err := store.SheetNamed(db, sheet)
	if err != nil {
		return "", 0, err
	}
	c, err := s.Builds.CheckSheet(db, builds.KeptOrder(kept))
	if err != nil {
		return kept.Image, 0, err
	}
	img, ierr := store.ImageNamed(db, c.Sheet.Image)
	site, serr := store.SiteNamed(db, c.Sheet.Machine.Site)
	if ierr != nil || serr != nil {
		return kept.Image, 0, nil // what is wrong with the sheet is told with it
	}
	e, err := builds.Expect(db, store.Build{ID: math.MaxInt64, ImageID: img.ID, SiteID: site.ID})
	return kept.Image, e.Median.Seconds(), err
}
