-- +goose Up
-- Lists of a vendor's releases, and what stood in them when they were last read.
create table feeds (
  id bigint generated always as identity primary key,
  name text not null unique,
  address text not null,
  publisher text not null default '', -- of releases that do not say theirs
  key text not null default '', -- an OpenPGP public key that it is to be signed by, '' if it need not be
  every_seconds bigint not null, -- it is read again after so long
  added_by text not null,
  looked_at timestamptz, -- last
  seen_at timestamptz, -- last without an error
  why text not null default '', -- it could not be read last
  left_out jsonb not null default '[]', -- what of it could not be taken, and why
  due_at timestamptz not null default now(), -- in real time, as all that claims are about
  asked bigint not null default 0, -- how often somebody asked for it to be read now
  held_until timestamptz not null default '-infinity',
  claim bigint not null default 0
);
create table feed_offers (
  feed_id bigint not null references feeds on delete cascade,
  product text not null,
  serial text not null,
  sha256 text not null,
  offer jsonb not null,
  primary key (feed_id, product, serial)
);
create index on feed_offers (sha256);
alter table bases
  add column feed text not null default '', -- that it is of, by its name then
  add column product text not null default '', -- the feed's name of it
  add column serial text not null default '',
  add column asked bigint not null default 0;
alter table builds add column release jsonb; -- of a feed that it is made from, if from one

-- +goose Down
alter table builds drop column release;
alter table bases drop column feed, drop column product, drop column serial, drop column asked;
drop table feed_offers;
drop table feeds;
