-- +goose Up
create table clusters (
  id integer primary key,
  name text not null unique,
  engine text not null,
  term integer not null default 0,        -- newest opened
  owner_term integer not null default 0,  -- newest decided
  owner text not null default '',         -- server that owns owner_term
  policy text not null,
  created_at text not null
);

create table servers (
  id integer primary key,
  cluster_id integer not null references clusters(id) on delete cascade,
  name text not null,
  rank integer not null default 1,        -- 0: never
  site text not null default '',
  agent text not null default '',         -- address of its agent; empty until it enrolled
  first_primary integer not null default 0,
  enrolled_at text,
  created_at text not null,
  unique (cluster_id, name)
);

create table enrollments (
  code_hash text primary key,
  server_id integer not null references servers(id) on delete cascade,
  expires_at text not null
);

create table operations (
  id integer primary key autoincrement,
  cluster text not null,
  kind text not null,
  state text not null,                    -- running, undoing, ended
  outcome text not null default '',       -- refused, undone, finished, needs you
  term integer not null,
  request text not null,
  plan text not null,
  facts text not null default '{}',
  asked_by text not null,
  asked_from text not null,
  message text not null default '',
  pause_seconds real not null default 0,
  cancelled integer not null default 0,
  created_at text not null,
  ended_at text
);
create index operations_by_cluster on operations (cluster, id);
create unique index one_operation_a_cluster on operations (cluster) where state <> 'ended';

create table steps (
  operation_id integer not null references operations(id) on delete cascade,
  seq integer not null,
  state text not null,                    -- waiting, running, done, failed, passed over, undone
  started_at text,
  ended_at text,
  seen text not null default '',
  error text not null default '',
  progress text not null default '',
  primary key (operation_id, seq)
);

create table journal (
  id integer primary key autoincrement,
  operation_id integer not null references operations(id) on delete cascade,
  at text not null,
  seq integer,
  level text not null,                    -- info, warn, error
  text text not null
);
create index journal_by_operation on journal (operation_id, id);

create table events (
  id integer primary key autoincrement,
  at text not null,
  who text not null,
  from_address text not null,
  action text not null,
  target text not null,
  detail text not null default ''
);

create table tokens (
  id integer primary key,
  name text not null unique,
  hash text not null unique,
  created_at text not null,
  last_used_at text
);

-- +goose Down
drop table tokens;
drop table events;
drop table journal;
drop table steps;
drop table operations;
drop table enrollments;
drop table servers;
drop table clusters;
