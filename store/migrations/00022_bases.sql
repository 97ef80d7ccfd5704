-- +goose Up
-- Disk images that versions are made from. Their content is in the service's folder of bases, by id.
create table bases (
  id bigint generated always as identity primary key,
  name text not null,
  labels jsonb not null default '{}',
  state text not null check (state in ('receiving', 'fetching', 'converting', 'ready', 'failed', 'retired')),
  why text not null default '', -- it failed; while it comes: what it waits for
  file text not null default '', -- what it was called where it came from
  address text not null default '', -- that it is fetched from
  expected text not null default '', -- SHA-256 of the file, if that was said
  size bigint not null default 0, -- of the file, in bytes; 0 while it is not known
  have bigint not null default 0, -- bytes of it that are there
  hashed bytea, -- the state of its SHA-256 over these
  sha256 text not null default '', -- of the whole file, once it is there
  format text not null default '',
  progress int not null default 0, -- of the converting, in per cent
  digest text not null default '', -- of the disk that it was converted to
  bytes bigint not null default 0, -- of that
  facts jsonb not null default '{}',
  added_by text not null,
  added_at timestamptz not null,
  ended_at timestamptz, -- when it became ready, failed or was retired
  began_at timestamptz not null default now(), -- in real time: when what comes now began to come,
  began_have bigint not null default 0, -- from which byte on,
  came_at timestamptz not null default now(), -- and when something of it came last
  tries int not null default 0, -- that did not get on
  due_at timestamptz not null default now(),
  held_until timestamptz not null default '-infinity',
  claim bigint not null default 0
);
create unique index on bases (name) where state <> 'retired';
create index on bases (due_at) where state in ('receiving', 'fetching', 'converting');

-- Where they are.
create table base_copies (
  id bigint generated always as identity primary key,
  base_id bigint not null references bases,
  site_id bigint not null references sites,
  state text not null check (state in ('delivering', 'present', 'failed')),
  why text not null default '',
  progress int not null default 0,
  ended_at timestamptz, -- when it arrived, or did not
  unique (base_id, site_id)
);
alter table builds add column from_base_id bigint references bases; -- that it is made from, if from one
alter table machines add column from_base_id bigint references bases;

-- +goose Down
alter table machines drop column from_base_id;
alter table builds drop column from_base_id;
drop table base_copies;
drop table bases;
