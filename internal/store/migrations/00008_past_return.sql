-- +goose Up
-- Whether an operation has begun its point of no return: set in one transaction
-- with the step that begins it, and looked at by whoever cancels.
alter table operations add column past_return integer not null default 0;

-- +goose Down
alter table operations drop column past_return;
