-- +goose Up
-- A gate is an address that applications connect to; it has no database.
alter table servers add column gate integer not null default 0;

-- +goose Down
alter table servers drop column gate;
