-- +goose Up
-- Types are those that SQLite and PostgreSQL both know. Times are in milliseconds since 1970, UTC.

-- A verdict, with what records are chosen and counted by.
CREATE TABLE record (
  id TEXT PRIMARY KEY,
  repository TEXT NOT NULL,
  door TEXT NOT NULL,
  kind TEXT NOT NULL,
  ref TEXT NOT NULL,
  branch TEXT NOT NULL,
  base TEXT NOT NULL,
  head TEXT NOT NULL,
  tree TEXT NOT NULL,
  mode TEXT NOT NULL,
  outcome TEXT NOT NULL,
  enforced TEXT NOT NULL,
  policy TEXT NOT NULL,
  time BIGINT NOT NULL,
  took BIGINT NOT NULL,
  findings BIGINT NOT NULL,
  fresh BIGINT NOT NULL, -- the new ones among them
  debt BIGINT NOT NULL,  -- in minutes
  stream BIGINT,         -- NULL where no branch's state was judged
  position BIGINT,       -- in the stream
  blamed BIGINT NOT NULL -- 1 once it is known who brought its new findings in
);
CREATE INDEX record_time ON record (repository, time);
CREATE INDEX record_head ON record (head);
CREATE UNIQUE INDEX record_position ON record (stream, position);

-- All the rest of a record, compressed; without the findings of those in a stream.
CREATE TABLE document (
  record TEXT PRIMARY KEY,
  data BYTEA NOT NULL
);

-- The states of one guarded branch as one door sees it, one after the other. Positions are seconds, but never twice the same.
CREATE TABLE stream (
  id BIGINT PRIMARY KEY,
  repository TEXT NOT NULL,
  branch TEXT NOT NULL,
  door TEXT NOT NULL,
  UNIQUE (repository, branch, door)
);

-- The findings of a part of a branch's files, from one position until before another; at the end of a stream until the greatest.
CREATE TABLE span (
  stream BIGINT NOT NULL,
  part BIGINT NOT NULL,
  since BIGINT NOT NULL,
  until BIGINT NOT NULL,
  digest BYTEA NOT NULL,
  PRIMARY KEY (stream, part, since)
);
CREATE INDEX span_until ON span (stream, until);
CREATE TABLE content (
  digest BYTEA PRIMARY KEY,
  data BYTEA NOT NULL
);

-- What a record of a stream found for the first time, and no longer, against the record before it.
CREATE TABLE event (
  stream BIGINT NOT NULL,
  position BIGINT NOT NULL,
  finding TEXT NOT NULL,
  kind TEXT NOT NULL, -- came, went, or became: it goes on from the finding was
  was TEXT NOT NULL,
  PRIMARY KEY (stream, finding, position, kind)
);
CREATE INDEX event_position ON event (stream, position);

-- Who brought a new finding in, as git says.
CREATE TABLE brought (
  stream BIGINT NOT NULL,
  finding TEXT NOT NULL,
  made_in TEXT NOT NULL, -- a commit
  author TEXT NOT NULL,
  PRIMARY KEY (stream, finding)
);

-- Reports, compressed, by the SHA-256 of their content; and which record rests on which.
CREATE TABLE report (
  digest TEXT PRIMARY KEY,
  size BIGINT NOT NULL,
  data BYTEA NOT NULL
);
CREATE TABLE evidence (
  record TEXT NOT NULL,
  place BIGINT NOT NULL,
  name TEXT NOT NULL,
  format TEXT NOT NULL,
  digest TEXT NOT NULL,
  size BIGINT NOT NULL,
  PRIMARY KEY (record, place)
);
CREATE INDEX evidence_digest ON evidence (digest);

-- When old records of a repository were last removed.
CREATE TABLE pruned (
  repository TEXT PRIMARY KEY,
  time BIGINT NOT NULL
);

