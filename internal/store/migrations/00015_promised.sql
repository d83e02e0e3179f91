-- +goose Up
alter table clusters add column promised text not null default '[]';

-- +goose Down
alter table clusters drop column promised;
