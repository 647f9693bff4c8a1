-- +goose Up
-- Who did something is a person, whatever they are called: names become ids, where a name is one person's who is known; of
-- those who share a name, who is still here and came first. Connections, tokens and the service keep their names.
CREATE INDEX user_name ON user (name);
CREATE TEMP TABLE known AS SELECT name, CAST((SELECT u.id FROM user u WHERE u.name=n.name ORDER BY u.left_at<>0, u.id LIMIT 1) AS TEXT)
  AS ref FROM (SELECT DISTINCT name FROM user WHERE name NOT IN (SELECT name FROM connection)) n;
UPDATE timeline SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE movement SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE job SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE security_event SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE backup SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE policy SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE purchase SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE transfer SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE stock_count SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE count_line SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE sheet SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE look SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE first_import SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE bench SET who=(SELECT ref FROM known WHERE name=who) WHERE who IN (SELECT name FROM known);
UPDATE exception SET closed_by=(SELECT ref FROM known WHERE name=closed_by) WHERE closed_by IN (SELECT name FROM known);
UPDATE listing SET ignored_by=(SELECT ref FROM known WHERE name=ignored_by) WHERE ignored_by IN (SELECT name FROM known);
UPDATE saved_view SET owner=(SELECT ref FROM known WHERE name=owner) WHERE owner IN (SELECT name FROM known);
UPDATE orders SET typed_by=(SELECT ref FROM known WHERE name=typed_by) WHERE typed_by IN (SELECT name FROM known);
UPDATE api_token SET made_by=(SELECT ref FROM known WHERE name=made_by) WHERE made_by IN (SELECT name FROM known);
UPDATE definition SET added_by=(SELECT ref FROM known WHERE name=added_by) WHERE added_by IN (SELECT name FROM known);
UPDATE rule SET changed_by=(SELECT ref FROM known WHERE name=changed_by) WHERE changed_by IN (SELECT name FROM known);
UPDATE order_sum SET typed_by=(SELECT ref FROM known WHERE name=typed_by) WHERE typed_by IN (SELECT name FROM known);
UPDATE run SET cause='by '||(SELECT ref FROM known WHERE name=substr(cause,4)) WHERE cause LIKE 'by %'
  AND substr(cause,4) IN (SELECT name FROM known);
UPDATE shipment SET pickers=(SELECT group_concat(coalesce((SELECT ref FROM known WHERE name=p.value), p.value), ',')
  FROM json_each('["'||replace(replace(pickers,'"','\"'),', ','","')||'"]') p) WHERE pickers<>'';
DROP TABLE known;

-- +goose Down
SELECT 1;
