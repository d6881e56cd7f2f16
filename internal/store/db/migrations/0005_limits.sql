-- How often something happened: one row for each rule and key that is not idle.
CREATE TABLE illumicode_tally (
  name TEXT NOT NULL PRIMARY KEY,  -- of the rule, and a keyed thumbprint of what it counts by
  at   BIGINT NOT NULL,            -- Unix microseconds; what it means is the rule's
  n    BIGINT NOT NULL,
  idle BIGINT NOT NULL,            -- Unix milliseconds: from then on the row says nothing
  was_at BIGINT NOT NULL DEFAULT 0, -- what at and n were when the row was last decided on
  was_n  BIGINT NOT NULL DEFAULT 0
) @norowid();

-- What all workers know of a provider: how it has answered lately.
CREATE TABLE illumicode_way (
  name    TEXT NOT NULL PRIMARY KEY,
  health  TEXT NOT NULL,           -- JSON
  changed BIGINT NOT NULL
);

-- How many of a provider's connections each worker may use.
CREATE TABLE illumicode_share (
  provider TEXT NOT NULL,
  worker   TEXT NOT NULL,
  n        INTEGER NOT NULL,
  until    BIGINT NOT NULL,
  PRIMARY KEY (provider, worker)
);

ALTER TABLE illumicode_attempt ADD COLUMN route TEXT NOT NULL DEFAULT ''; -- why this provider, and why no other
