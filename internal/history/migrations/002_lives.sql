-- +goose Up
-- A finding is followed back under the ids that it had before.
CREATE INDEX event_was ON event (stream, was) WHERE was <> '';
