-- +goose Up
-- Where what a request has created is read, for the answer to a repeated request.
alter table replies add column location text not null default '';

-- +goose Down
alter table replies drop column location;
