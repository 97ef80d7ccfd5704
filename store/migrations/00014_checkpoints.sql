-- +goose Up
alter table machines drop constraint machines_state_check;
alter table machines
  add column checkpoints jsonb not null default '[]',
  add constraint machines_state_check check (state in ('making', 'starting', 'running', 'stopping', 'off', 'sealed',
    'discarding', 'checkpointing', 'going back', 'gone'));

-- +goose Down
update machines set state = 'off' where state in ('checkpointing', 'going back');
alter table machines drop constraint machines_state_check, drop column checkpoints;
alter table machines add constraint machines_state_check check (state in ('making', 'starting', 'running', 'stopping',
  'off', 'sealed', 'discarding', 'gone'));
