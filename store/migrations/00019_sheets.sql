-- +goose Up
-- Build sheets that are kept here, right or not.
create table sheets (
  id bigint generated always as identity primary key,
  name text not null unique,
  text text not null,
  files jsonb not null default '{}', -- digests of what it names beside it, by path
  image text not null default '', -- that it is of, as far as it can be read
  revision int not null,
  changed_by text not null,
  changed_at timestamptz not null
);
alter table builds add column sheet_name text not null default ''; -- of the kept sheet that it was started from
create index on builds (sheet_name, id) where sheet_name <> '';

-- +goose Down
alter table builds drop column sheet_name;
drop table sheets;
