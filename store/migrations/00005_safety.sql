-- +goose Up
-- That a host has a machine, that it never served, and that a person vouches
-- for it are three facts. A host without a machine is never in service.
alter table hosts
  add machine bool not null default false,
  add vouched_at timestamptz;
update hosts h set machine = true from pulses u
  where u.host_id = h.id and u.credential is not null and h.state not in ('off', 'rebuilding');
update hosts set state = 'off', why = 'not built yet: start a rollover of the pool', drain_order = 0, drained_by = '', unserved = true
  where not machine and state in ('serving', 'draining', 'checking');
update hosts set unserved = false where state = 'serving';
alter table hosts
  add constraint machine_for_people check (machine or state not in ('serving', 'draining', 'checking')),
  add constraint checked_before_service check (state <> 'serving' or not unserved and vouched_at is null);

-- One rollover takes hosts of a pool at a time; those that were stopped before may still be finishing some.
drop index one_rollover_a_pool;
drop index one_reversal_a_pool;
create unique index one_rollover_a_pool on rollovers (pool_id) where not settled and state <> 'stopped';
create index on rollovers (pool_id) where not settled;

-- Tokens that were made by tokens, and what a token is narrowed to: a role, and pools or images.
alter table tokens
  add parent_id bigint references tokens,
  add role text not null default '' check (role in ('', 'viewer', 'operator', 'approver', 'administrator')),
  add pools jsonb not null default '[]',
  add images jsonb not null default '[]';
create index on tokens (parent_id);
-- Until now, enabling an account brought its old tokens back.
update tokens set revoked_at = now() where revoked_at is null and account_id in (select id from accounts where disabled);
-- Answers that held the secrets of tokens.
delete from replies;

-- Wrong passwords by name and by address. A try is counted before the password is looked at.
create table sign_in_tries (
  key text primary key,
  account text not null default '',
  failed int not null default 0,
  unreported int not null default 0,
  last_at timestamptz not null,
  next_at timestamptz not null,
  reported_at timestamptz not null default '-infinity'
);

-- What is being worked on is not due: a process holds it, and renews that while it lives. A claim that was
-- taken over by another is known by its number.
create sequence claims;
alter table rollovers add claim bigint not null default 0, add held_until timestamptz not null default '-infinity';
alter table works add claim bigint not null default 0, add held_until timestamptz not null default '-infinity';
create index on works (site_id, held_until) where state in ('asked', 'under way');

-- A site that does not answer is asked again at growing intervals, and keeps nobody else waiting.
alter table sites
  add failures int not null default 0,
  add trouble text not null default '',
  add trouble_since timestamptz,
  add retry_at timestamptz not null default '-infinity';

-- One capture of a build machine at a time, whatever the image.
create unique index one_capture_a_machine on versions (source) where state = 'capturing';

-- +goose Down
drop index one_capture_a_machine;
alter table sites drop failures, drop trouble, drop trouble_since, drop retry_at;
alter table works drop claim, drop held_until;
alter table rollovers drop claim, drop held_until;
drop sequence claims;
drop table sign_in_tries;
alter table tokens drop parent_id, drop role, drop pools, drop images;
drop index one_rollover_a_pool;
create unique index one_rollover_a_pool on rollovers (pool_id) where not settled and reverses is null;
create unique index one_reversal_a_pool on rollovers (pool_id) where not settled and reverses is not null;
alter table hosts drop constraint machine_for_people, drop constraint checked_before_service;
alter table hosts drop machine, drop vouched_at;
