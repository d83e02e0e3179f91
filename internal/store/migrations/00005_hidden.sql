-- +goose Up
-- A hidden replica is kept out of what readers are sent to.
alter table servers add column hidden integer not null default 0;

-- +goose Down
alter table servers drop column hidden;
