-- +goose Up
-- Which versions are kept, how many copies sites get, and when those were found intact.
alter table images add column retention jsonb not null default '{}';
alter table images add column retention_due timestamptz not null default '-infinity'; -- by the service's clock
alter table images add column fixed_copies int not null default 0; -- for every site; 0: as is proposed
alter table images add column fixed_copies_at jsonb not null default '{}'; -- by the site's name
create table copy_plans (
  image_id bigint not null references images,
  site_id bigint not null references sites,
  copies int not null,
  why text not null,
  at timestamptz not null,
  primary key (image_id, site_id)
);
alter table copies add column read_at timestamptz; -- found intact last, as a whole
alter table copies drop constraint copies_state_check;
alter table copies add constraint copies_state_check check (state in ('delivering', 'present', 'failed', 'leaving', 'deleted'));
update copies c set read_at = (select max(w.ended_at) from works w
  where w.kind = 'deliver' and w.subject = 'copy ' || c.id and w.state = 'succeeded') where state = 'present';

-- +goose Down
delete from works where kind = 'read-copy';
update copies set state = 'present' where state = 'leaving';
alter table copies drop constraint copies_state_check;
alter table copies add constraint copies_state_check check (state in ('delivering', 'present', 'failed', 'deleted'));
alter table copies drop column read_at;
drop table copy_plans;
alter table images drop column fixed_copies_at;
alter table images drop column fixed_copies;
alter table images drop column retention_due;
alter table images drop column retention;
