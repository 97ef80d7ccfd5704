-- +goose Up
-- What a build machine has, where it is not what its class says: 0 for that.
alter table machines
	add column cores integer not null default 0,
	add column memory bigint not null default 0, -- in bytes
	add column disk bigint not null default 0; -- in bytes

-- +goose Down
alter table machines drop column cores, drop column memory, drop column disk;
