-- +goose Up
-- Every attempt to make a test machine gives it a token of its own: the machine has that of the attempt whose answer may
-- have been lost.
alter table proofs add column tokens bytea[] not null default '{}';
update proofs set tokens = array[token] where token is not null;
alter table proofs drop column token;

-- +goose Down
alter table proofs add column token bytea;
update proofs set token = tokens[array_upper(tokens, 1)];
alter table proofs drop column tokens;
