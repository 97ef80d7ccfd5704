-- +goose Up
create table accounts (
  id bigint generated always as identity primary key,
  name text not null unique,
  title text not null,
  role text not null check (role in ('viewer', 'operator', 'approver', 'administrator')),
  password text not null,
  disabled bool not null default false,
  created_at timestamptz not null
);

create table console_sessions (
  secret bytea primary key,
  account_id bigint not null references accounts on delete cascade,
  csrf text not null,
  created_at timestamptz not null,
  expires_at timestamptz not null
);

create table tokens (
  id bigint generated always as identity primary key,
  account_id bigint not null references accounts on delete cascade,
  name text not null,
  secret bytea not null unique,
  created_at timestamptz not null,
  expires_at timestamptz not null,
  revoked_at timestamptz
);
create index on tokens (account_id);

create table trail (
  seq bigint primary key,
  at timestamptz not null,
  actor text not null,
  verb text not null,
  subject text not null,
  scope text not null default '',
  reason text not null default '',
  detail jsonb,
  prev text not null,
  hash text not null
);
create index on trail (subject, seq);
create index on trail (scope, seq) where scope <> '';
create index on trail (actor, seq);

create table events (
  seq bigint generated always as identity primary key,
  at timestamptz not null,
  kind text not null,
  subject text not null,
  data jsonb
);
create index on events (at);

create table replies (
  account_id bigint not null references accounts on delete cascade,
  key text not null,
  request text not null,
  status int not null,
  body bytea,
  created_at timestamptz not null,
  primary key (account_id, key)
);

-- +goose Down
drop table replies, events, trail, tokens, console_sessions, accounts;
