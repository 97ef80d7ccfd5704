-- +goose Up
-- How versions were made, signed. A key that has no private half here is kept
-- for what it signed before.
create table signing_keys (
  id text primary key, -- SHA-256 of the public key
  public bytea not null,
  private bytea, -- seed; none if it is kept elsewhere, or is no longer used
  made_at timestamptz not null default now()
);
create unique index one_signing_key on signing_keys ((true)) where private is not null;
create table provenances (
  version_id bigint primary key references versions,
  envelope bytea, -- a DSSE envelope, as JSON
  key_id text references signing_keys,
  why text not null default '' -- it could not be written, if there is no envelope
);

-- +goose Down
drop table provenances;
drop table signing_keys;
