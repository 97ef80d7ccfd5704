-- +goose Up
-- Where kept sheets come from that live in git repositories, and what was seen there.
create table repositories (
  id bigint generated always as identity primary key,
  sheet_id bigint not null unique references sheets on delete cascade,
  address text not null,
  branch text not null default '', -- at most one of these three: the repository's own choice if none
  tag text not null default '',
  commit text not null default '',
  folder text not null default '',
  file text not null,
  credential jsonb not null default '{}', -- where it is found, and not what it is
  announced jsonb, -- where the secret is found that announcements are signed with, null if there are none
  every_seconds bigint not null, -- it is looked at again after so long
  added_by text not null,
  tip text not null default '', -- the commit that was seen last
  looked_at timestamptz, -- last
  seen_at timestamptz, -- last without an error
  why text not null default '', -- the sheet could not be taken from there last
  gone boolean not null default false, -- because what was seen there has no right to be built
  due_at timestamptz not null default now(), -- in real time, as all that claims are about
  asked bigint not null default 0,
  held_until timestamptz not null default '-infinity',
  claim bigint not null default 0
);
alter table sheets
  add column commit text not null default '', -- that it was taken from
  add column history jsonb not null default '[]'; -- commits up to that one, the newest first, if its notes name them

-- +goose Down
alter table sheets drop column commit, drop column history;
drop table repositories;
