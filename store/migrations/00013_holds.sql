-- +goose Up
alter table builds
	add column hold_seconds bigint not null default 0, -- for how long its machine is held if it fails
	add column machine_held_until timestamptz, -- since it failed; held_until is of who ticks it
	add column went_on_at timestamptz, -- last, after it had failed
	add column before jsonb not null default '{}'; -- tries that count no more since then

-- +goose Down
alter table builds drop column hold_seconds, drop column machine_held_until, drop column went_on_at, drop column before;
