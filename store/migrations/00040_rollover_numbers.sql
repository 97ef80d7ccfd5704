-- +goose Up
-- Numbers of rollovers come from a row, not from a sequence: a transaction that is
-- rolled back, such as a preview, then uses no number. Transactions that add
-- rollovers wait for each other.
create table rollover_numbers (
  id int primary key default 1 check (id = 1),
  last bigint not null
);
insert into rollover_numbers (last) select coalesce(pg_sequence_last_value(pg_get_serial_sequence('rollovers', 'id')), 0);
create function next_rollover_number() returns bigint language sql volatile
  as 'update rollover_numbers set last = last + 1 returning last';
alter table rollovers alter column id drop identity;
alter table rollovers alter column id set default next_rollover_number();

-- Why a rollover was stopped.
alter table rollovers add column stopped_why text not null default '';

-- +goose Down
alter table rollovers drop column stopped_why;
alter table rollovers alter column id drop default;
alter table rollovers alter column id add generated always as identity;
select setval(pg_get_serial_sequence('rollovers', 'id'), greatest(last, 1), last > 0) from rollover_numbers;
drop function next_rollover_number();
drop table rollover_numbers;
