-- +goose Up
create table machines (
  id bigint generated always as identity primary key,
  site_id bigint not null references sites,
  name text not null,
  build_id bigint references builds, -- that it belongs to, if to one
  base_id bigint references versions, -- that it is made from, if from one
  base_disk text not null default '',
  machine_class text not null,
  purpose text not null default '',
  owner text not null,
  state text not null check (state in ('making', 'starting', 'running', 'stopping', 'off', 'sealed', 'discarding',
    'gone')),
  why text not null default '', -- what was last done to it failed
  asked_at timestamptz not null,
  started_at timestamptz, -- since when it runs
  ran_seconds bigint not null default 0, -- before that
  touched_at timestamptz not null,
  notices int not null default 0,
  noticed_at timestamptz,
  gone_at timestamptz,
  check ((base_id is null) <> (base_disk = '')),
  check ((state = 'gone') = (gone_at is not null))
);
create unique index on machines (site_id, name) where gone_at is null;
create unique index on machines (build_id);
create index on works (subject text_pattern_ops) where subject like 'machine %';

insert into machines (site_id, name, build_id, base_id, base_disk, machine_class, purpose, owner, state, asked_at,
    touched_at, gone_at)
  select b.site_id, 'build-' || b.id, b.id, b.base_id, coalesce(b.plan->'base'->>'disk', ''), i.machine_class,
    'build ' || b.id || ' of ' || i.name, b.started_by, case when b.settled then 'gone' else 'running' end, b.started_at,
    b.started_at, case when b.settled then b.ended_at end
  from builds b join images i on i.id = b.image_id
  where exists (select from works where kind = 'make-machine' and subject = 'build ' || b.id) order by b.id;
update works w set input = jsonb_build_object('machine', m.id) from machines m
  where w.kind in ('make-machine', 'inspect-machine', 'seal-machine', 'discard-machine')
    and m.build_id = (w.input->>'build')::bigint;

-- What build machines cost, and what they are allowed.
create table workshop (
  one bool primary key default true check (one),
  terms jsonb not null
);
insert into workshop (terms) values ('{"currency": "", "rates": null, "longest": "12h", "left": "192h"}');

-- +goose Down
drop table workshop;
update works w set input = jsonb_build_object('build', m.build_id) from machines m
  where w.kind in ('make-machine', 'inspect-machine', 'seal-machine', 'discard-machine')
    and m.id = (w.input->>'machine')::bigint and m.build_id is not null;
delete from works where subject like 'machine %';
drop index works_subject_idx1;
drop table machines;
