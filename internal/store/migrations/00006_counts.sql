-- +goose Up
-- How the listings of a connection stand, and how many orders carry a tag, kept as they change: pages ask for both.
CREATE TABLE listing_count (
  connection_id INTEGER PRIMARY KEY, n INTEGER NOT NULL, matched INTEGER NOT NULL, to_match INTEGER NOT NULL, ignored INTEGER NOT NULL,
  rejected INTEGER NOT NULL, in_review INTEGER NOT NULL
);
INSERT INTO listing_count SELECT connection_id, count(*), sum(item_id<>0), sum(item_id=0 AND ignored_at=0), sum(ignored_at<>0),
  sum(state='rejected'),
  sum(state IN ('in review','submitted')) FROM listing GROUP BY 1;
CREATE TABLE tag_count (tag TEXT PRIMARY KEY, n INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO tag_count SELECT tag, count(*) FROM order_tag GROUP BY 1;

-- +goose StatementBegin
CREATE TRIGGER listing_added AFTER INSERT ON listing BEGIN
  INSERT INTO listing_count VALUES (new.connection_id, 1, new.item_id<>0, new.item_id=0 AND new.ignored_at=0, new.ignored_at<>0,
  new.state='rejected', new.state IN ('in review','submitted'))
    ON CONFLICT DO UPDATE SET n=n+1, matched=matched+excluded.matched, to_match=to_match+excluded.to_match,
    ignored=ignored+excluded.ignored, rejected=rejected+excluded.rejected,
    in_review=in_review+excluded.in_review;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER listing_moved AFTER UPDATE OF item_id, ignored_at, state ON listing
  WHEN (old.item_id<>0) <> (new.item_id<>0) OR (old.ignored_at<>0) <> (new.ignored_at<>0) OR old.state <> new.state BEGIN
  UPDATE listing_count SET matched = matched - (old.item_id<>0) + (new.item_id<>0),
    to_match = to_match - (old.item_id=0 AND old.ignored_at=0) + (new.item_id=0 AND new.ignored_at=0),
    ignored = ignored - (old.ignored_at<>0) + (new.ignored_at<>0), rejected = rejected - (old.state='rejected') + (new.state='rejected'),
    in_review = in_review - (old.state IN ('in review','submitted')) + (new.state IN ('in review','submitted'))
    WHERE connection_id = new.connection_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER listing_removed AFTER DELETE ON listing BEGIN
  UPDATE listing_count SET n = n - 1, matched = matched - (old.item_id<>0), to_match = to_match - (old.item_id=0
  AND old.ignored_at=0), ignored = ignored - (old.ignored_at<>0),
    rejected = rejected - (old.state='rejected'), in_review = in_review - (old.state IN ('in review','submitted'))
    WHERE connection_id = old.connection_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER tag_put AFTER INSERT ON order_tag BEGIN
  INSERT INTO tag_count VALUES (new.tag, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER tag_taken AFTER DELETE ON order_tag BEGIN
  UPDATE tag_count SET n = n - 1 WHERE tag = old.tag;
END;
-- +goose StatementEnd

-- +goose Down
SELECT 1;
