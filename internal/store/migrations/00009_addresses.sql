-- +goose Up
-- Where a server's database is reached, as it was said at enrolment: what its agent
-- says of it later counts for nothing.
alter table servers add column host text not null default '';
alter table servers add column port integer not null default 0;

-- +goose Down
alter table servers drop column port;
alter table servers drop column host;
