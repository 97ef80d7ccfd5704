-- +goose Up
-- What is in versions. Each piece of software stands here once, in whichever
-- versions it is: of what most of them share there are not as many rows.
create table software (
  id bigint generated always as identity primary key,
  mark uuid not null unique, -- of all that stands in the row
  origin text not null,
  name text not null,
  version text not null,
  source text not null
);
create index on software (lower(name) text_pattern_ops);
create index on software (lower(source) text_pattern_ops) where source <> '';
create table software_lists (
  version_id bigint primary key references versions,
  document bytea not null, -- CycloneDX, packed by gzip
  packed bytea not null, -- its entries as JSON, packed likewise
  entries integer not null,
  facts jsonb not null,
  taken_at timestamptz not null, -- in the machine, before it was sealed
  taken_by text not null, -- the program that did
  brought_by text not null default '' -- whoever brought it later, if somebody did
);
-- They are packed already.
alter table software_lists alter column document set storage external, alter column packed set storage external;
-- Which version has what. It refers to both without a constraint: neither is
-- ever deleted, and checking ten thousand rows a list takes longer than all else.
create table software_in (
  version_id bigint not null,
  software_id bigint not null,
  primary key (software_id, version_id)
);
alter table versions add column unlisted text not null default ''; -- why there is no list
update versions set unlisted = 'it was captured before what is in a version was listed' where state in ('sealed', 'retired');

-- +goose Down
alter table versions drop column unlisted;
drop table software_in;
drop table software_lists;
drop table software;
