-- +goose Up
-- Whether the pools that follow pilot are rolled over when a build has staged a version.
alter table images add column roll_pilot boolean not null default false;
alter table builds add column rolled text not null default ''; -- what came of that

-- +goose Down
alter table builds drop column rolled;
alter table images drop column roll_pilot;
