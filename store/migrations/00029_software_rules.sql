-- +goose Up
-- What clearance asks of the software in a version, if an image wants it to.
alter table images add column keep_applications boolean not null default false;
alter table images add column no_downgrades boolean not null default false;
alter table versions add column waived jsonb not null default '{}'; -- why a downgrade is passed over, by the software's name

-- +goose Down
alter table versions drop column waived;
alter table images drop column keep_applications, drop column no_downgrades;
