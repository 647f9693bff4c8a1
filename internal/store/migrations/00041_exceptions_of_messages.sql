-- +goose Up
-- what is open about a message is looked for with each message that is accepted
CREATE INDEX exception_outbox ON exception (outbox_id) WHERE outbox_id <> 0 AND closed_at = 0;
CREATE INDEX exception_inbox ON exception (inbox_id) WHERE inbox_id <> 0 AND closed_at = 0;
