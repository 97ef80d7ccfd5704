-- +goose Up
alter table builds add column number text not null default ''; -- of its version
update builds set number = v.number from versions v where v.id = version_id;
-- A machine is sealed with its version's number from now on.
update builds set cancel = 'the service was upgraded while its machine was sealed: start it again' where state = 'sealing';

-- +goose Down
alter table builds drop column number;
