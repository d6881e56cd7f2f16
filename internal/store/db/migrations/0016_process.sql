-- Processes of this version, and the keys that each knows. They write that at their start and every five minutes, and
-- remove it at a clean end. What has said nothing for a day counts no more. Which key signs is decided by the keyring.
CREATE TABLE illumicode_process (
  id      TEXT    NOT NULL PRIMARY KEY,
  host    TEXT    NOT NULL,
  pid     INTEGER NOT NULL,
  version TEXT    NOT NULL,
  kids    TEXT    NOT NULL, -- JSON: of all keys in its keyring
  signs   TEXT    NOT NULL, -- JSON: of those that sign
  seen    BIGINT  NOT NULL
);

-- Workers of a version whose process says which keys it knows. Those of before write nothing here.
ALTER TABLE illumicode_worker ADD COLUMN keyed INTEGER NOT NULL DEFAULT 0;
