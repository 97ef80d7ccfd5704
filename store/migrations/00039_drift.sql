-- +goose Up
-- Why a host drifts is told by the last rollover that it was part of.
create index on rollover_hosts (host_id, rollover_id);

-- +goose Down
drop index rollover_hosts_host_id_rollover_id_idx;
