-- +goose Up
-- When the files of a signed feed were signed that were read last, by their paths.
alter table feeds add column signed_at jsonb not null default '{}';

-- +goose Down
alter table feeds drop column signed_at;
