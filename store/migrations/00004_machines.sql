-- +goose Up
-- What a site's machines run on, for platforms with machines of their own.
alter table sites add machinery jsonb not null default '{}';

alter table versions
  add size_before bigint not null default 0,
  add sealing jsonb not null default '[]',
  add discards bool not null default false;

-- The disk that a capture made stays at the site that made it until the version is retired.
alter table works drop constraint works_kind_check;
alter table works add check (kind in ('capture', 'deliver', 'delete-copy', 'delete-disk', 'rebuild'));

-- Operations of platforms that have no memory of their own. The process that
-- works on one holds it until held_until, and renews that while it lives.
create table operations (
  key text primary key,
  site text not null,
  operation jsonb not null,
  progress jsonb not null,
  under_way bool not null default true,
  holder text not null default '',
  held_until timestamptz,
  begun_at timestamptz not null default now()
);

-- What was seen of the machine of a host whose agent is silent, and when it is looked at again.
alter table hosts
  add look_at timestamptz not null default '-infinity',
  add machine_why text not null default '';

-- Why a host is faulty, with what was seen of its machine.
drop view host_rows;
create view host_rows as
  select h.id, h.name, h.pool_id, p.name as pool, s.name as site, i.name as image, h.state, h.since,
         h.why || case when h.state = 'faulty' and h.machine_why <> '' then '; ' || h.machine_why else '' end as why,
         h.drained_by, h.version_id, coalesce(v.number, '') as version,
         pt.version_id as target_id, coalesce(tv.number, '') as target,
         pt.version_id is not null and h.version_id is distinct from pt.version_id as drifts,
         p.seats_per_host as seats, u.seen_at, u.load, u.stamp, u.checks, u.checks_why,
         case when h.state in ('off', 'rebuilding') then 0 else jsonb_array_length(u.sessions) end as sessions
  from hosts h
  join pools p on p.id = h.pool_id
  join sites s on s.id = p.site_id
  join images i on i.id = p.image_id
  join pool_targets pt on pt.pool_id = p.id
  join pulses u on u.host_id = h.id
  left join versions v on v.id = h.version_id
  left join versions tv on tv.id = pt.version_id;

-- +goose Down
drop view host_rows;
alter table hosts drop look_at, drop machine_why;
drop table operations;
delete from works where kind = 'delete-disk';
alter table works drop constraint works_kind_check;
alter table works add check (kind in ('capture', 'deliver', 'delete-copy', 'rebuild'));
alter table versions drop size_before, drop sealing, drop discards;
alter table sites drop machinery;
create view host_rows as
  select h.id, h.name, h.pool_id, p.name as pool, s.name as site, i.name as image, h.state, h.since, h.why,
         h.drained_by, h.version_id, coalesce(v.number, '') as version,
         pt.version_id as target_id, coalesce(tv.number, '') as target,
         pt.version_id is not null and h.version_id is distinct from pt.version_id as drifts,
         p.seats_per_host as seats, u.seen_at, u.load, u.stamp, u.checks, u.checks_why,
         case when h.state in ('off', 'rebuilding') then 0 else jsonb_array_length(u.sessions) end as sessions
  from hosts h
  join pools p on p.id = h.pool_id
  join sites s on s.id = p.site_id
  join images i on i.id = p.image_id
  join pool_targets pt on pt.pool_id = p.id
  join pulses u on u.host_id = h.id
  left join versions v on v.id = h.version_id
  left join versions tv on tv.id = pt.version_id;
