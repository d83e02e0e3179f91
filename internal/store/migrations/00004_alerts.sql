-- +goose Up
create table alerts (
  id integer primary key autoincrement,
  cluster text not null,
  server text not null default '',
  rule text not null,
  level text not null,                    -- critical, warning
  text text not null,
  mend text not null default '',
  raised_at text not null,
  cleared_at text,
  acknowledged_at text,
  acknowledged_by text not null default '',
  note text not null default ''
);
create unique index one_open_alert on alerts (cluster, server, rule) where cleared_at is null;
create index alerts_by_cluster on alerts (cluster, raised_at);

-- Where alerts are sent: web addresses. The secret signs what is sent.
create table channels (
  id integer primary key,
  name text not null unique,
  url text not null,
  secret text not null,
  created_at text not null
);

-- What has to be sent, and what became of it. Channel 0 is the command that the
-- service was started with.
create table deliveries (
  id integer primary key autoincrement,
  channel_id integer not null,
  alert_id integer,                       -- null: a test
  body text not null,
  attempts integer not null default 0,
  next_at text,                           -- null: done, or given up
  done_at text,
  error text not null default ''
);
create index deliveries_due on deliveries (next_at) where next_at is not null;

-- +goose Down
drop table deliveries;
drop table channels;
drop table alerts;
