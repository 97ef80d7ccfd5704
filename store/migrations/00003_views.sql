-- +goose Up
-- What each pool should run: its pinned version, or what its track names.
create view pool_targets as
  select p.id as pool_id, coalesce(p.pinned_id, t.version_id) as version_id
  from pools p join tracks t on t.image_id = p.image_id and t.name = p.track;

-- A host with all that is shown of it.
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

-- A session with where it is.
create view session_rows as
  select h.id as host_id, h.name as host, h.state as host_state, p.name as pool, s.name as site,
         x.key, x.person, x.state, x.since
  from pulses u
  join hosts h on h.id = u.host_id and h.state not in ('off', 'rebuilding')
  join pools p on p.id = h.pool_id
  join sites s on s.id = p.site_id
  cross join lateral jsonb_to_recordset(u.sessions) as x(key text, person text, state text, since timestamptz);

-- +goose Down
drop view session_rows, host_rows, pool_targets;
