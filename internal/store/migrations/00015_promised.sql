-- +goose Up
-- What every acknowledged write rests on, and how often that was changed: the agents note the
-- number, so that records from an older backup are known by it.
alter table clusters add column promised text not null default '[]';
alter table clusters add column promises integer not null default 0;

-- +goose Down
alter table clusters drop column promises;
alter table clusters drop column promised;
