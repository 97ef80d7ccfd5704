-- +goose Up
alter table versions add column delivery jsonb not null default '{}'; -- where its copies go first, if not where the image says
alter table builds add column commit text not null default ''; -- that its sheet was taken from
alter table builds add column commits jsonb not null default '[]'; -- subject lines since the last build

-- +goose Down
alter table builds drop column commits;
alter table builds drop column commit;
alter table versions drop column delivery;
