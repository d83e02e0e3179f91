-- +goose Up
-- Whether a server was ever seen with a database. One that is still to be
-- seeded is shown and not told; one that has lost its data is told.
alter table servers add column held_data integer not null default 0;
update servers set held_data = 1 where exists (select 1 from samples where server_id = servers.id);

-- +goose Down
alter table servers drop column held_data;
