-- +goose Up
-- When builds of kept sheets start by themselves.
create table schedules (
  id bigint generated always as identity primary key,
  name text not null unique,
  sheet text not null, -- the kept sheet's name
  mode text not null check (mode in ('dates', 'dates-if-changed', 'changes')),
  rule text not null default '', -- RFC 5545; '' if builds start on changes only
  zone text not null default '', -- the time zone of its dates
  begins timestamptz not null, -- the rule
  next_at timestamptz, -- the date that comes next, or has come and was not seen to
  params jsonb not null default '{}', -- values of the sheet's parameters
  owner text not null,
  paused text not null default '', -- why it is
  paused_by text not null default '',
  paused_at timestamptz,
  made_of text not null default '', -- what a build would have been made of when it was written down
  waits text not null default '', -- why a build does not start yet
  revision int not null default 1,
  check ((mode = 'changes') = (rule = ''))
);
create table schedule_runs (
  id bigint generated always as identity primary key,
  schedule_id bigint not null references schedules on delete cascade,
  due_at timestamptz, -- the date; none if it was a change
  at timestamptz not null,
  build_id bigint references builds, -- that was started, if one was
  why text not null default '' -- none was
);
create index on schedule_runs (schedule_id, id);
alter table builds
  add column schedule text not null default '', -- that started it, by its name then
  add column schedule_id bigint references schedules on delete set null,
  add column made_of text not null default ''; -- a digest of its sheet, files and base
create index on builds (schedule_id, id) where schedule_id is not null;

-- +goose Down
alter table builds drop column schedule, drop column schedule_id, drop column made_of;
drop table schedule_runs;
drop table schedules;
