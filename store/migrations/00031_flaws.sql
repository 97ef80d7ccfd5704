-- +goose Up
-- Known flaws of software, as lists say, and which of them versions have.
create table flaw_lists (
  id bigint generated always as identity primary key,
  name text not null unique,
  loaded_at timestamptz not null,
  loaded_by text not null,
  digest text not null, -- of what was loaded
  records integer not null
);
create table flaws (
  id bigint generated always as identity primary key,
  list_id bigint not null references flaw_lists on delete cascade,
  record jsonb not null
);
create index on flaws (list_id);
create table flaw_packages (
  name text not null, -- as it is looked up by
  flaw_id bigint not null references flaws on delete cascade
);
create index on flaw_packages (name);
create index on flaw_packages (flaw_id);
-- What was found in a version, by the lists as they were at an epoch: each change of a list begins another one.
create table flaws_found (
  version_id bigint primary key references versions,
  epoch bigint not null,
  found jsonb not null
);
create table flaw_epoch (epoch bigint not null);
insert into flaw_epoch values (0);
alter table images add column no_serious_flaws boolean not null default false;

-- +goose Down
alter table images drop column no_serious_flaws;
drop table flaw_epoch, flaws_found, flaw_packages, flaws, flaw_lists;
