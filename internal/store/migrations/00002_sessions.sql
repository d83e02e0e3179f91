-- +goose Up
-- A session of the console belongs to the token that opened it and ends with it.
create table sessions (
  hash text primary key,
  token_name text not null references tokens (name) on delete cascade,
  created_at text not null,
  expires_at text not null
);
-- A link opens one session, once.
create table session_links (
  hash text primary key,
  token_name text not null references tokens (name) on delete cascade,
  expires_at text not null
);

-- +goose Down
drop table session_links;
drop table sessions;
