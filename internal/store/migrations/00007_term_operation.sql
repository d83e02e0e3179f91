-- +goose Up
-- The operation that opened the newest term: another one may not open it again.
alter table clusters add column term_operation integer not null default 0;

-- +goose Down
alter table clusters drop column term_operation;
