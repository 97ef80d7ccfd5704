-- +goose Up
alter table versions add column back_to text not null default ''; -- checkpoint that its build machine goes back to afterwards

-- +goose Down
alter table versions drop column back_to;
