-- +goose Up
-- Who looks after something is a person, whatever they are called; of those who share a name, who is still here and came first.
UPDATE orders SET assignee = coalesce((SELECT CAST(u.id AS TEXT) FROM user u WHERE u.name=orders.assignee
  ORDER BY u.left_at<>0, u.id LIMIT 1), assignee) WHERE assignee<>'';
UPDATE exception SET assignee = coalesce((SELECT CAST(u.id AS TEXT) FROM user u WHERE u.name=exception.assignee
  ORDER BY u.left_at<>0, u.id LIMIT 1), assignee) WHERE assignee<>'';

-- +goose Down
SELECT 1;
