-- +goose Up
-- What is in versions. Each piece of software stands here once, in whichever
-- versions it is: of what most of them share there are not as many rows.
create table software (
  id bigint generated always as identity primary key,
  mark uuid not null unique, -- of all that stands in the row
  origin text not null,
  name text not null,
  version text not null,
  arch text not null,
  source text not null,
  source_version text not null,
  licence text not null,
  publisher text not null,
  summary text not null,
  path text not null,
  noticed boolean not null,
  security boolean not null
);
create index on software (lower(name) text_pattern_ops);
create index on software (lower(source) text_pattern_ops) where source <> '';
create table software_lists (
  version_id bigint primary key references versions on delete cascade,
  document bytea not null, -- CycloneDX, packed by gzip
  entries integer not null,
  facts jsonb not null,
  taken_at timestamptz not null, -- in the machine, before it was sealed
  taken_by text not null, -- the program that did
  brought_by text not null default '' -- whoever brought it later, if somebody did
);
create table software_in (
  version_id bigint not null references software_lists on delete cascade,
  software_id bigint not null references software,
  primary key (version_id, software_id)
);
create index on software_in (software_id);
alter table versions add column unlisted text not null default ''; -- why there is no list
update versions set unlisted = 'it was captured before what is in a version was listed' where state in ('sealed', 'retired');

-- +goose Down
alter table versions drop column unlisted;
drop table software_in;
drop table software_lists;
drop table software;
