-- +goose Up
-- The certificates of agents that count: a server has more than one while its newest was not
-- seen yet.
create table certificates (
  server_id integer not null references servers (id) on delete cascade,
  serial text not null,
  made_at text not null,
  primary key (server_id, serial)
);

-- +goose Down
drop table certificates;
