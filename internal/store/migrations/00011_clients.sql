-- +goose Up
-- Where applications reach a server's database, where that is another address than the
-- one at which its peers do.
alter table servers add column clients text not null default '';

-- +goose Down
alter table servers drop column clients;
