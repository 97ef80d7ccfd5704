-- +goose Up
-- What the steps of builds have written, in pieces of lines.
create table build_logs (
	build_id bigint not null references builds on delete cascade,
	first bigint not null, -- the number of its first line in the build's log, from 0
	lines integer not null,
	step integer not null, -- its index in the sheet
	attempt integer not null,
	work text not null, -- the key of the work
	consumed bigint not null, -- bytes of what the work wrote, up to the end of the piece
	content bytea not null, -- zstd; each line with its time
	primary key (build_id, first)
);

-- +goose Down
drop table build_logs;
