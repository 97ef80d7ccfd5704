-- +goose Up
alter table images add column log_seconds bigint not null default 34560000; -- for how long a build's log is kept, since its end

-- +goose Down
alter table images drop column log_seconds;
