-- +goose Up
alter table machines drop constraint machines_state_check;
alter table machines
  add column from_host text not null default '', -- that it is made from, if from one
  add column drain_order bigint not null default 0, -- of the host, which it waits for or was made under; 0 if it owes that one nothing
  add column drained boolean not null default false, -- the host was drained for it
  add constraint machines_state_check check (state in ('waiting', 'copying', 'making', 'starting', 'running', 'stopping',
    'off', 'sealed', 'discarding', 'checkpointing', 'going back', 'repairing', 'trying', 'gone'));
create index on machines (from_host) where drain_order <> 0;

-- +goose Down
update machines set state = 'gone', gone_at = now() where state in ('waiting', 'copying');
alter table machines drop constraint machines_state_check, drop column from_host, drop column drain_order, drop column drained;
alter table machines add constraint machines_state_check check (state in ('making', 'starting', 'running', 'stopping',
  'off', 'sealed', 'discarding', 'checkpointing', 'going back', 'repairing', 'trying', 'gone'));
