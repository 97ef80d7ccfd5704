-- +goose Up
-- Background tasks that ended with a panic. After repeated panics a task is set aside until the service restarts.
create table crashes (
  kind text not null, -- the table of the row that the task works on
  key text not null,  -- its id, or its key
  times int not null, -- within a day
  why text not null,
  at timestamptz not null, -- real time
  primary key (kind, key)
);

-- +goose Down
drop table crashes;
