-- +goose Up
-- Tokens that were removed, so that one that is used all the same is known by its name.
create table removed_tokens (
    hash text primary key,
    name text not null,
    removed_at text not null
);

-- +goose Down
drop table removed_tokens;
