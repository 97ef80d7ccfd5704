-- +goose Up
create table proofs (
  id bigint generated always as identity primary key,
  version_id bigint not null references versions,
  site_id bigint not null references sites,
  build_id bigint unique references builds, -- that it belongs to, if to one
  state text not null check (state in ('waiting', 'making', 'starting', 'trying', 'kept', 'passed', 'failed', 'over')),
  settled bool not null default false, -- its machine is gone
  why text not null default '',
  proofs jsonb not null default '[]', -- scripts that are run on its machine
  asked_by text not null,
  asked_at timestamptz not null,
  until timestamptz, -- it is kept for a person, and nothing is tried on it
  let_go text not null default '', -- why nobody wants it any more
  ended_at timestamptz,
  token bytea unique, -- what its agent trades for a credential, once
  credential bytea unique,
  spoke_at timestamptz, -- the agent, first
  says text not null default '', -- the stamp that it reported
  checks text not null default '',
  checks_why text not null default '',
  checked_at timestamptz,
  next_tick_at timestamptz not null default now(),
  held_until timestamptz not null default '-infinity',
  claim bigint not null default 0,
  check (not settled or state in ('passed', 'failed', 'over'))
);
create index on proofs (next_tick_at) where not settled;
create index on proofs (version_id, id);
create index on works (subject text_pattern_ops) where subject like 'proof %';
alter table versions add column applications jsonb not null default '[]';
alter table builds drop constraint builds_state_check;
alter table builds add constraint builds_state_check check (state in ('queued', 'preparing', 'working', 'checking',
  'sealing', 'capturing', 'proving', 'delivering', 'ready', 'failed', 'cancelled'));

-- +goose Down
update builds set state = 'delivering' where state = 'proving';
alter table builds drop constraint builds_state_check;
alter table builds add constraint builds_state_check check (state in ('queued', 'preparing', 'working', 'checking',
  'sealing', 'capturing', 'delivering', 'ready', 'failed', 'cancelled'));
alter table versions drop column applications;
delete from works where subject like 'proof %';
drop table proofs;
