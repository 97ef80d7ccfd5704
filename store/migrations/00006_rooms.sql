-- +goose Up
-- A work is about a subject, and has an input and an output of its kind's own: nothing here knows the kinds.
alter table works add subject text, add attempt int, add input jsonb, add output jsonb;
update works set
  subject = case
    when kind in ('capture', 'delete-disk') then 'version ' || version_id
    when kind in ('deliver', 'delete-copy') then 'copy ' || copy_id
    else 'rollover ' || rollover_id || ' host ' || host_id end,
  input = jsonb_strip_nulls(jsonb_build_object('version', version_id, 'copy', copy_id, 'host', host_id, 'rollover', rollover_id));
update works w set attempt = n.attempt
  from (select key, row_number() over (partition by kind, subject order by asked_at, key) as attempt from works) n where n.key = w.key;
alter table works drop constraint works_kind_check;
alter table works
  alter subject set not null, alter attempt set not null, alter input set not null,
  drop version_id, drop copy_id, drop host_id, drop rollover_id;
create unique index on works (kind, subject, attempt);

-- So are the operations of platforms.
update operations set
  operation = case
    when operation ? 'capture' then jsonb_build_object('kind', 'capture', 'input', operation->'capture')
    when operation ? 'deliver' then jsonb_build_object('kind', 'deliver', 'input', operation->'deliver')
    when operation ? 'delete_copy' then jsonb_build_object('kind', 'delete-copy', 'input', jsonb_build_object('name', operation->'delete_copy'->'copy'))
    when operation ? 'delete_disk' then jsonb_build_object('kind', 'delete-disk', 'input', jsonb_build_object('name', operation->'delete_disk'->'disk'))
    else jsonb_build_object('kind', 'rebuild', 'input', operation->'rebuild') end,
  progress = progress - '{digest,size,size_before,sealing}'::text[] || case
    when progress->>'state' <> 'succeeded' then '{}'
    when operation ? 'capture' then jsonb_build_object('output', jsonb_strip_nulls(jsonb_build_object('digest', progress->'digest',
      'size', progress->'size', 'size_before', progress->'size_before', 'sealing', progress->'sealing')))
    when operation ? 'deliver' or operation ? 'rebuild' then jsonb_build_object('output', jsonb_build_object('digest', progress->'digest'))
    else '{"output": {}}' end;

-- Which state of a host can follow which: the table of core/host, which a test compares with this one.
-- +goose StatementBegin
create function host_changes_state() returns trigger language plpgsql as $$
begin
  if old.state || ' ' || new.state not in (
    'off emptied', 'emptied rebuilding', 'emptied draining', 'emptied serving', 'emptied faulty', 'emptied off',
    'rebuilding starting', 'rebuilding faulty', 'starting checking', 'starting faulty', 'checking serving', 'checking faulty',
    'serving draining', 'serving faulty', 'draining emptied', 'draining serving', 'draining faulty',
    'faulty emptied', 'faulty serving', 'faulty draining') then
    raise exception 'host % is %: it cannot become %', old.name, old.state, new.state using errcode = 'check_violation';
  end if;
  return new;
end $$;
-- +goose StatementEnd
create trigger host_changes_state before update of state on hosts
  for each row when (old.state <> new.state) execute function host_changes_state();
alter table hosts
  drop constraint machine_for_people,
  add constraint machine_for_people check (machine or state not in ('starting', 'checking', 'serving', 'draining'));

-- A revision is what an editor saw; an edition is a vendor's word.
alter table sites rename edition to revision;
alter table sites rename machinery to machine_settings;
alter table images rename edition to revision;
alter table versions rename edition to revision;
alter table pools rename edition to revision;

-- What is shown of a host is a statement of the store.
drop view host_rows;

-- +goose Down
alter table sites rename revision to edition;
alter table sites rename machine_settings to machinery;
alter table images rename revision to edition;
alter table versions rename revision to edition;
alter table pools rename revision to edition;
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
alter table hosts
  drop constraint machine_for_people,
  add constraint machine_for_people check (machine or state not in ('serving', 'draining', 'checking'));
drop trigger host_changes_state on hosts;
drop function host_changes_state;
delete from operations;
alter table works add version_id bigint, add copy_id bigint, add host_id bigint, add rollover_id bigint;
update works set version_id = (input->>'version')::bigint, copy_id = (input->>'copy')::bigint,
  host_id = (input->>'host')::bigint, rollover_id = (input->>'rollover')::bigint;
alter table works alter version_id set not null, drop subject, drop attempt, drop input, drop output;
create index on works (host_id) where host_id is not null;
alter table works add check (kind in ('capture', 'deliver', 'delete-copy', 'delete-disk', 'rebuild'));
