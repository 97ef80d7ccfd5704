-- +goose Up
-- Whether the approval of a tester counts for a version that the same person has made.
alter table images add column independent boolean not null default false;

-- +goose Down
alter table images drop column independent;
