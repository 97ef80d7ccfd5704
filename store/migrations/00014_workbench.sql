-- +goose Up
alter table machines drop constraint machines_state_check;
alter table machines
  add column checkpoints jsonb not null default '[]',
  add column notes jsonb not null default '[]', -- of people, as they went
  add column worked_at timestamptz not null default now(), -- when something was last done on it
  add constraint machines_state_check check (state in ('making', 'starting', 'running', 'stopping', 'off', 'sealed',
    'discarding', 'checkpointing', 'going back', 'repairing', 'trying', 'gone'));

-- +goose Down
update machines set state = 'off' where state in ('checkpointing', 'going back', 'repairing', 'trying');
alter table machines drop constraint machines_state_check, drop column checkpoints, drop column notes, drop column worked_at;
alter table machines add constraint machines_state_check check (state in ('making', 'starting', 'running', 'stopping',
  'off', 'sealed', 'discarding', 'gone'));
