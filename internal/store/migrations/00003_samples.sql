-- +goose Up
-- Blocks of samples (package history), by server and step in seconds; start is
-- Unix time. A server's samples go with it.
create table samples (
  server_id integer not null references servers(id) on delete cascade,
  step integer not null,
  start integer not null,
  data blob not null,
  primary key (server_id, step, start)
) without rowid;
create index samples_by_age on samples (step, start);

-- +goose Down
drop table samples;
