-- +goose Up
-- Each account uploads a file for itself until it is whole: the size that one declares must not block another.
alter table sheet_files add column sender text not null default ''; -- '' once it is whole
alter table sheet_file_pieces add column sender text not null default '';
alter table sheet_file_pieces drop constraint sheet_file_pieces_digest_fkey;
alter table sheet_file_pieces drop constraint sheet_file_pieces_pkey;
alter table sheet_files drop constraint sheet_files_pkey;
delete from sheet_file_pieces p where not exists (select from sheet_files f where f.digest = p.digest and f.whole);
delete from sheet_files where not whole;
alter table sheet_files add primary key (digest, sender);
alter table sheet_files add check ((sender = '') = whole);
alter table sheet_file_pieces add primary key (digest, sender, first);
alter table sheet_file_pieces add foreign key (digest, sender) references sheet_files on delete cascade on update cascade;

-- +goose Down
delete from sheet_files where sender <> '';
alter table sheet_file_pieces drop constraint sheet_file_pieces_digest_sender_fkey;
alter table sheet_file_pieces drop constraint sheet_file_pieces_pkey;
alter table sheet_files drop constraint sheet_files_pkey;
alter table sheet_files drop column sender;
alter table sheet_file_pieces drop column sender;
alter table sheet_files add primary key (digest);
alter table sheet_file_pieces add primary key (digest, first);
alter table sheet_file_pieces add foreign key (digest) references sheet_files on delete cascade;
