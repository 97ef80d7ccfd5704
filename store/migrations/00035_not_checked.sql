-- +goose Up
-- What lists of known vulnerabilities cover, so that software that none covers is not taken for software without any.
create table flaw_ecosystems (
  list_id bigint not null references flaw_lists on delete cascade,
  ecosystem text not null,
  primary key (list_id, ecosystem)
);
insert into flaw_ecosystems select distinct f.list_id, a->>'ecosystem' from flaws f,
  jsonb_array_elements(case when jsonb_typeof(f.record->'affected') = 'array' then f.record->'affected' else '[]' end) a
  where a->>'ecosystem' <> '';
delete from flaws_found; -- they are looked for again
alter table flaws_found add column not_checked jsonb not null default '[]'; -- what no list covered, by ecosystem
alter table images add column accepted_ecosystems jsonb not null default '{}'; -- why one that no list covers is accepted

-- +goose Down
alter table images drop column accepted_ecosystems;
alter table flaws_found drop column not_checked;
drop table flaw_ecosystems;
