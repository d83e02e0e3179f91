-- +goose Up
-- The term from which on the owner has been primary without a break: later ones were given
-- to it in place, and what was proven in this one holds.
alter table clusters add column kin_term integer not null default 0;
update clusters set kin_term = owner_term;

-- +goose Down
alter table clusters drop column kin_term;
