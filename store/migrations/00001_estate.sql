-- +goose Up
create table sites (
  id bigint generated always as identity primary key,
  name text not null unique,
  title text not null,
  platform text not null,
  address text not null,
  starts_per_minute int not null check (starts_per_minute > 0),
  clones_per_copy int not null check (clones_per_copy > 0),
  edition int not null default 1
);

create table images (
  id bigint generated always as identity primary key,
  name text not null unique,
  title text not null,
  numbering text not null,
  machine_class text not null,
  testers int not null,
  soak_seconds bigint not null,
  copies int not null,
  edition int not null default 1
);

create table versions (
  id bigint generated always as identity primary key,
  image_id bigint not null references images,
  number text not null,
  state text not null check (state in ('capturing', 'sealed', 'retired', 'failed')),
  digest text not null default '',
  size_bytes bigint not null default 0,
  source text not null,
  notes text not null default '',
  tags jsonb not null default '[]',
  end_of_life timestamptz,
  captured_by text not null,
  created_at timestamptz not null,
  sealed_at timestamptz,
  failure text not null default '',
  barred text not null default '',
  barred_by text not null default '',
  barred_at timestamptz,
  edition int not null default 1,
  unique (image_id, number)
);

create table tracks (
  id bigint generated always as identity primary key,
  image_id bigint not null references images,
  name text not null,
  position int not null,
  version_id bigint references versions,
  fallback_id bigint references versions,
  since timestamptz,
  unique (image_id, name)
);

create table track_moves (
  id bigint generated always as identity primary key,
  track_id bigint not null references tracks,
  kind text not null,
  version_id bigint not null references versions,
  let_go bool not null default false,
  actor text not null,
  reason text not null default '',
  at timestamptz not null
);
create index on track_moves (track_id, id);

create table copies (
  id bigint generated always as identity primary key,
  version_id bigint not null references versions,
  site_id bigint not null references sites,
  ordinal int not null,
  state text not null check (state in ('delivering', 'present', 'failed', 'deleted')),
  progress int not null default 0,
  failure text not null default '',
  unique (version_id, site_id, ordinal)
);

create table pools (
  id bigint generated always as identity primary key,
  name text not null unique,
  title text not null,
  site_id bigint not null references sites,
  image_id bigint not null references images,
  track text not null,
  pinned_id bigint references versions,
  pinned_why text not null default '',
  host_count int not null,
  host_prefix text not null unique,
  seats_per_host int not null check (seats_per_host > 0),
  machine_class text not null,
  edition int not null default 1
);

-- Numbers of drain and check orders: never used twice, so that an answer to an old one is known as such.
create sequence order_numbers;

create table hosts (
  id bigint generated always as identity primary key,
  name text not null unique,
  pool_id bigint not null references pools,
  state text not null check (state in ('starting', 'checking', 'serving', 'draining', 'emptied', 'rebuilding', 'faulty', 'off')),
  since timestamptz not null,
  version_id bigint references versions,
  why text not null default '',
  silent bool not null default false,
  drained_by text not null default '',
  drain_order bigint not null default 0,
  check_order bigint not null default 0,
  unserved bool not null default true
);
create index on hosts (pool_id, name);
create index on hosts (version_id);
create index on hosts (state) where state <> 'serving';

-- What the agent of a host said last. Apart from hosts, because it is written
-- every half minute and hosts are not; no changing column is indexed, so that
-- the writes stay within their pages.
create table pulses (
  host_id bigint primary key references hosts on delete cascade,
  credential bytea unique,
  seen_at timestamptz,
  stamp text not null default '',
  drain_confirmed bigint not null default 0,
  checks_order bigint not null default 0,
  checks text not null default '',
  checks_why text not null default '',
  load real not null default 0,
  sessions jsonb not null default '[]'
) with (fillfactor = 50);

create table enrolments (
  token bytea primary key,
  host_id bigint not null references hosts on delete cascade,
  created_at timestamptz not null,
  used_at timestamptz
);
create index on enrolments (host_id);

create table orders (
  id bigint generated always as identity primary key,
  host_id bigint not null references hosts on delete cascade,
  kind text not null check (kind in ('tell', 'sign-off')),
  notice text not null default '',
  session_key text not null,
  text text not null default '',
  rollover_id bigint,
  created_at timestamptz not null,
  done_at timestamptz
);
create index on orders (host_id) where done_at is null;
create index on orders (rollover_id, host_id);

create table rollovers (
  id bigint generated always as identity primary key,
  pool_id bigint not null references pools,
  target_id bigint not null references versions,
  state text not null,
  settled bool not null default false,
  options jsonb not null,
  plan jsonb not null,
  reverses bigint references rollovers,
  reason text not null default '',
  created_by text not null,
  created_at timestamptz not null,
  started_at timestamptz,
  ended_at timestamptz,
  paused_why text not null default '',
  holds jsonb not null default '[]',
  next_tick_at timestamptz not null default now()
);
-- One rollover of a pool at a time is kept by the database, not only by the code;
-- a reversal may wait for the rollover that it reverses.
create unique index one_rollover_a_pool on rollovers (pool_id) where not settled and reverses is null;
create unique index one_reversal_a_pool on rollovers (pool_id) where not settled and reverses is not null;
create index on rollovers (next_tick_at) where not settled;

create table rollover_hosts (
  rollover_id bigint not null references rollovers,
  host_id bigint not null references hosts,
  phase text not null,
  since timestamptz not null,
  batch int not null default 0,
  why text not null default '',
  from_id bigint references versions,
  wiped bool not null default false,
  primary key (rollover_id, host_id)
);

-- Things asked of a platform. The key is what makes asking twice the same as asking once.
create table works (
  key text primary key,
  kind text not null check (kind in ('capture', 'deliver', 'delete-copy', 'rebuild')),
  site_id bigint not null references sites,
  version_id bigint not null references versions,
  copy_id bigint references copies,
  host_id bigint references hosts,
  rollover_id bigint references rollovers,
  state text not null check (state in ('asked', 'under way', 'succeeded', 'failed')),
  progress int not null default 0,
  why text not null default '',
  asked_at timestamptz not null,
  ended_at timestamptz,
  next_poll_at timestamptz not null default now()
);
create index on works (next_poll_at) where state in ('asked', 'under way');
create index on works (site_id, asked_at) where kind = 'rebuild';
create index on works (host_id) where host_id is not null;

create table sign_offs (
  version_id bigint not null references versions,
  tester text not null,
  yes bool not null,
  comment text not null default '',
  at timestamptz not null,
  primary key (version_id, tester)
);

-- +goose Down
drop table sign_offs, works, rollover_hosts, rollovers, orders, enrolments, pulses, hosts, pools, copies, track_moves, tracks, versions, images, sites;
drop sequence order_numbers;
