-- +goose Up
create table builds (
  id bigint generated always as identity primary key,
  image_id bigint not null references images,
  site_id bigint not null references sites,
  base_id bigint references versions, -- the version that its machine is made from, if it is one
  version_id bigint references versions, -- that it made, or is making
  state text not null check (state in ('queued', 'preparing', 'working', 'checking', 'sealing', 'capturing', 'delivering',
    'ready', 'failed', 'cancelled')),
  settled bool not null default false,
  sheet text not null,
  plan jsonb not null,
  done int not null default 0, -- steps
  started_by text not null,
  started_at timestamptz not null,
  ended_at timestamptz,
  cancel text not null default '',
  staged_at timestamptz,
  staging_failed text not null default '',
  why text not null default '',
  next_tick_at timestamptz not null default now(),
  held_until timestamptz not null default '-infinity',
  claim bigint not null default 0,
  check (not settled or state in ('ready', 'failed', 'cancelled'))
);
create index on builds (next_tick_at) where not settled;
create index on builds (image_id, id);
create index on works (subject text_pattern_ops) where subject like 'build %';

-- +goose Down
delete from works where subject like 'build %';
drop index works_subject_idx;
drop table builds;
