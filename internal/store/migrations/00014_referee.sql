-- +goose Up
-- A referee is an agent without a database.
alter table servers add column referee integer not null default 0;

-- +goose Down
alter table servers drop column referee;
