-- +goose Up
alter table versions add column findings jsonb not null default '[]'; -- of the seal checks before it was sealed

-- +goose Down
alter table versions drop column findings;
