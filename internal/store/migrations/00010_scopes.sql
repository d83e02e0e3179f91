-- +goose Up
-- What a token is good for, in which clusters, and until when. Tokens of before were
-- good for everything.
alter table tokens add column scopes text not null default 'admin';
alter table tokens add column clusters text not null default '';
alter table tokens add column expires_at text;

-- +goose Down
alter table tokens drop column expires_at;
alter table tokens drop column clusters;
alter table tokens drop column scopes;
