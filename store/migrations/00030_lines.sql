-- +goose Up
-- What leads to sites, how much goes over it, and how deliveries stand.
create table lines (
  name text primary key,
  title text not null,
  settings jsonb not null
);
alter table sites add column deliveries jsonb not null default '{}';
update sites set deliveries = jsonb_build_object('delivery_rate', machine_settings->'delivery_rate'),
  machine_settings = machine_settings - 'delivery_rate' where machine_settings ? 'delivery_rate';
alter table works add column transfer jsonb; -- how a delivery by blocks stands, or ended
alter table works add column pace jsonb; -- how fast it goes
create index works_deliveries on works (asked_at) where kind in ('deliver', 'deliver-base');

-- +goose Down
drop index works_deliveries;
alter table works drop column pace;
alter table works drop column transfer;
update sites set machine_settings = machine_settings || jsonb_build_object('delivery_rate', deliveries->'delivery_rate')
  where deliveries ? 'delivery_rate';
alter table sites drop column deliveries;
drop table lines;
