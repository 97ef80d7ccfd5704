-- +goose Up
-- Files that build sheets name, by the SHA-256 of what is in them.
create table sheet_files (
  digest text primary key check (digest ~ '^[0-9a-f]{64}$'),
  size bigint not null check (size >= 0),
  have bigint not null default 0, -- bytes of it that are there
  whole bool not null default false, -- all of it is there, and it has the digest
  folder bool not null default false, -- it is the archive of a folder, and unpacks into it
  used_at timestamptz not null,
  check (not whole or have = size)
);
create table sheet_file_pieces (
  digest text not null references sheet_files on delete cascade,
  first bigint not null, -- byte
  content bytea not null,
  primary key (digest, first)
);
alter table sheet_file_pieces alter column content set storage external; -- most of what is large is compressed already
alter table builds add column files jsonb not null default '{}'; -- digests of what its sheet names, by path

-- +goose Down
alter table builds drop column files;
drop table sheet_file_pieces;
drop table sheet_files;
