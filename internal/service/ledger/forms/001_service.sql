-- +goose Up
-- What the service keeps beside records. Types are those that SQLite and PostgreSQL both know; times are in milliseconds since 1970, UTC,
-- and 0 where there is none.

-- Who may do what. Of a token's secret only a hash is kept.
CREATE TABLE token (
  id TEXT PRIMARY KEY,
  hash TEXT NOT NULL,
  repository TEXT NOT NULL, -- empty for all
  pull TEXT NOT NULL,       -- the one pull request that it is for, empty for all
  rights TEXT NOT NULL,     -- separated by blanks
  note TEXT NOT NULL,
  made BIGINT NOT NULL,
  ends BIGINT NOT NULL,
  revoked BIGINT NOT NULL
);

-- Reports that were sent: by a token for one pull request they serve that one alone. Of several versions the greatest counts.
CREATE TABLE upload (
  id TEXT PRIMARY KEY,
  repository TEXT NOT NULL,
  head TEXT NOT NULL, -- the commit that it was made at
  name TEXT NOT NULL,
  pull TEXT NOT NULL,
  version BIGINT NOT NULL,
  digest TEXT NOT NULL, -- SHA-256, in hexadecimal digits
  size BIGINT NOT NULL,
  token TEXT NOT NULL, -- by whose id it came
  received BIGINT NOT NULL,
  data BYTEA NOT NULL, -- compressed
  UNIQUE (repository, head, name, pull, version)
);
CREATE INDEX upload_received ON upload (received);

-- What is judged anew whenever its head moves: a pull request, or a guarded branch.
CREATE TABLE subject (
  repository TEXT NOT NULL,
  name TEXT NOT NULL,     -- pull/N, or a whole ref
  head TEXT NOT NULL,     -- the commit that it proposes, or is at
  base TEXT NOT NULL,     -- of a branch, the head that was judged before
  target TEXT NOT NULL,   -- of a pull request, the branch that it is for
  title TEXT NOT NULL,
  state TEXT NOT NULL,    -- open, or whatever the code host calls it
  seen BIGINT NOT NULL,   -- since when its head is known
  lacking TEXT NOT NULL,  -- the reports that are waited for, as a JSON list
  judged TEXT NOT NULL,   -- the head of the last verdict
  evidence TEXT NOT NULL, -- what that rests on: a hash
  record TEXT NOT NULL,   -- the id of its record
  outcome TEXT NOT NULL,
  door TEXT NOT NULL,
  time BIGINT NOT NULL,   -- when it was reached
  sent TEXT NOT NULL,     -- the record that was brought to the code host last
  trouble TEXT NOT NULL,  -- why nothing goes on, empty where it does
  asked BIGINT NOT NULL,  -- how often it was asked how it stands
  answered BIGINT NOT NULL, -- which of these its head is from
  PRIMARY KEY (repository, name)
);

-- What a guarded branch accepts.
CREATE TABLE acceptance (
  repository TEXT NOT NULL,
  branch TEXT NOT NULL,
  entry TEXT NOT NULL,
  path TEXT NOT NULL,
  tool TEXT NOT NULL,
  rule TEXT NOT NULL,
  message TEXT NOT NULL,
  severity TEXT NOT NULL,
  why TEXT NOT NULL,
  reason TEXT NOT NULL,
  accepted_by TEXT NOT NULL,
  owner TEXT NOT NULL,
  accepted_on TEXT NOT NULL, -- days as YYYY-MM-DD
  until TEXT NOT NULL,       -- empty where it has no end
  sought TEXT NOT NULL,      -- path, rule, message and owner in small letters, for search
  PRIMARY KEY (repository, branch, entry)
);
CREATE INDEX acceptance_until ON acceptance (until, repository, path);

-- The teams that the policy of a branch names.
CREATE TABLE team (
  repository TEXT NOT NULL,
  branch TEXT NOT NULL,
  name TEXT NOT NULL,
  PRIMARY KEY (repository, branch, name)
);

-- What is worth a notice. The id follows from what it is, so that the same is told once.
CREATE TABLE news (
  id TEXT PRIMARY KEY,
  repository TEXT NOT NULL,
  teams TEXT NOT NULL, -- each between line ends, empty for nobody in particular
  about TEXT NOT NULL,
  title TEXT NOT NULL,
  body TEXT NOT NULL,
  record TEXT NOT NULL,
  time BIGINT NOT NULL
);
CREATE INDEX news_time ON news (repository, time);

-- Calls of code hosts that were taken, by a hash of their content.
CREATE TABLE called (
  hash TEXT PRIMARY KEY,
  time BIGINT NOT NULL
);

-- Who reads pages by a token.
CREATE TABLE session (
  hash TEXT PRIMARY KEY,
  token TEXT NOT NULL,
  ends BIGINT NOT NULL
);

-- Processes that work, and when they last said so.
CREATE TABLE instance (
  id TEXT PRIMARY KEY,
  seen BIGINT NOT NULL
);
