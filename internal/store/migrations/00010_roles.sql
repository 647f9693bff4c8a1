-- +goose Up
-- Roles are sets of permissions now; those that there were go on under the names of the sets that hold what they held.
CREATE TABLE user_now (
  id INTEGER PRIMARY KEY, email TEXT NOT NULL UNIQUE, name TEXT NOT NULL,
  role TEXT NOT NULL CHECK (role IN ('viewer','driver','packer','bookkeeper','clerk','lead')), password_hash TEXT NOT NULL,
  left_at INTEGER NOT NULL DEFAULT 0, epoch INTEGER NOT NULL DEFAULT 0, signed_in_at INTEGER NOT NULL DEFAULT 0
);
INSERT INTO user_now SELECT id, email, name, CASE role WHEN 'admin' THEN 'lead' WHEN 'operator' THEN 'clerk' ELSE role END,
  password_hash, left_at, epoch, signed_in_at FROM user;
DROP TABLE user;
ALTER TABLE user_now RENAME TO user;
UPDATE api_token SET role = CASE role WHEN 'admin' THEN 'lead' WHEN 'operator' THEN 'clerk' ELSE role END;
UPDATE look SET role = CASE role WHEN 'admin' THEN 'lead' WHEN 'operator' THEN 'clerk' ELSE role END;

-- +goose Down
SELECT 1;
