package client

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/schedule"
)

// Schedule says when builds of a kept sheet start by themselves.
type Schedule struct {
	Name     string            `json:"name"`
	Sheet    string            `json:"sheet" doc:"The kept sheet's name"`
	Image    string            `json:"image"`
	Mode     schedule.Mode     `json:"mode"`
	Rule     string            `json:"rule,omitempty" doc:"RFC 5545"`
	Zone     string            `json:"zone,omitempty" doc:"Time zone of its dates, such as Europe/Paris"`
	NextAt   *time.Time        `json:"next_at,omitempty" doc:"The date that comes next, or waits"`
	Values   map[string]string `json:"values,omitempty" doc:"Of the sheet's parameters"`
	Owner    string            `json:"owner"`
	Paused   string            `json:"paused,omitempty" doc:"Why it is"`
	PausedBy string            `json:"paused_by,omitempty"`
	PausedAt *time.Time        `json:"paused_at,omitempty"`
	Waits    string            `json:"waits,omitempty" doc:"Why a build does not start yet"`
	Dates    []time.Time       `json:"dates,omitempty" doc:"The next five, of a single schedule"`
	Last     *ScheduleRun      `json:"last,omitempty"`
	Runs     []ScheduleRun     `json:"runs,omitempty" doc:"The last ones, of a single schedule"`
}

// ScheduleRun is what became of a date, or of a change.
type ScheduleRun struct {
	At      time.Time   `json:"at"`
	DueAt   *time.Time  `json:"due_at,omitempty" doc:"The date; left out if it was a change"`
	Build   int64       `json:"build,omitempty" doc:"That was started, if one was"`
	State   build.State `json:"state,omitempty" doc:"Of the build"`
	Version string      `json:"version,omitempty" doc:"That the build made"`
	Why     string      `json:"why,omitempty" doc:"No build was started"`
}

// NewSchedule asks for builds of a kept sheet to start by themselves.
type NewSchedule struct {
	Name   string            `json:"name"`
	Sheet  string            `json:"sheet"`
	Mode   schedule.Mode     `json:"mode"`
	Rule   string            `json:"rule,omitempty" doc:"RFC 5545, such as FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30"`
	Zone   string            `json:"zone,omitempty" doc:"Such as Europe/Paris"`
	Values map[string]string `json:"values,omitempty"`
}

// ScheduleDates are the next dates of a rule.
type ScheduleDates struct {
	Dates []time.Time `json:"dates" nullable:"false"`
}

// ComingBuild is a build that will start, if it does.
type ComingBuild struct {
	At       time.Time     `json:"at"`
	Schedule string        `json:"schedule"`
	Sheet    string        `json:"sheet"`
	Image    string        `json:"image"`
	Mode     schedule.Mode `json:"mode"`
	Takes    float64       `json:"takes_seconds,omitempty" doc:"By what earlier builds took, if there were any"`
}

// Schedules lists schedules by name.
func (c *Client) Schedules(ctx context.Context) ([]Schedule, error) {
	p, err := get[Page[Schedule]](ctx, c, "/schedules", nil)
	return p.Items, err
}

// Schedule returns a schedule, with its next dates and what its last runs came to.
func (c *Client) Schedule(ctx context.Context, name string) (Schedule, error) {
	return get[Schedule](ctx, c, pathOf("schedules", name), nil)
}

// ScheduleDates returns the next dates of a rule that is not written down yet.
func (c *Client) ScheduleDates(ctx context.Context, in NewSchedule) ([]time.Time, error) {
	d, err := answer[ScheduleDates](ctx, c, request{method: http.MethodPost, path: "/schedules/dates", body: in})
	return d.Dates, err
}

// AddSchedule writes a schedule down.
func (c *Client) AddSchedule(ctx context.Context, in NewSchedule) (Schedule, error) {
	return answer[Schedule](ctx, c, request{method: http.MethodPost, path: "/schedules", body: in})
}

// PauseSchedule keeps a schedule from starting builds.
func (c *Client) PauseSchedule(ctx context.Context, name, reason string) (Schedule, error) {
	return answer[Schedule](ctx, c, request{
		method: http.MethodPost, path: pathOf("schedules", name) + "/pause", body: Reason{Reason: reason},
	})
}

// ResumeSchedule has a schedule start builds again.
func (c *Client) ResumeSchedule(ctx context.Context, name string) (Schedule, error) {
	return answer[Schedule](ctx, c, request{
		method: http.MethodPost, path: pathOf("schedules", name) + "/resume", body: Reason{},
	})
}

// DeleteSchedule forgets a schedule.
func (c *Client) DeleteSchedule(ctx context.Context, name string) error {
	_, err := c.raw(ctx, request{method: http.MethodDelete, path: pathOf("schedules", name)}, "application/json")
	return err
}

// Calendar returns what starts by itself in so many days from now on, in order.
func (c *Client) Calendar(ctx context.Context, days int) ([]ComingBuild, error) {
	p, err := get[Page[ComingBuild]](ctx, c, "/calendar", values("days", strconv.Itoa(days)))
	return p.Items, err
}
