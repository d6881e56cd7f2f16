-- A challenge and a change carry a keyed digest of what they are, made at their beginning: whoever writes to the database
-- makes them no other's. What is open has none, and ends: care tells the application of it, and sets old mailboxes free.
ALTER TABLE illumicode_challenge ADD COLUMN bound TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_change ADD COLUMN bound TEXT NOT NULL DEFAULT '';
UPDATE illumicode_challenge SET ends = created WHERE state = 'open';
UPDATE illumicode_change SET state = 'stopped' WHERE state = 'pending';
UPDATE illumicode_change SET undo_ends = made WHERE state = 'made';

-- Browsers that have signed in before. A browser has tries and a letter of its own each day.
CREATE TABLE illumicode_browser (
  id         TEXT NOT NULL PRIMARY KEY,
  subject    TEXT NOT NULL,
  mailbox    TEXT NOT NULL,
  name       TEXT NOT NULL,
  challenge  TEXT NOT NULL,
  since      BIGINT NOT NULL,
  used       BIGINT NOT NULL,
  tries      BIGINT NOT NULL DEFAULT 0,
  tries_from BIGINT NOT NULL DEFAULT 0,
  lettered   BIGINT NOT NULL DEFAULT 0
);
CREATE INDEX illumicode_browser_subject ON illumicode_browser (subject, used);
CREATE INDEX illumicode_browser_mailbox ON illumicode_browser (mailbox);
CREATE INDEX illumicode_browser_used ON illumicode_browser (used);

-- What the browser that began calls itself.
ALTER TABLE illumicode_challenge ADD COLUMN device TEXT NOT NULL DEFAULT '';

-- Who has registered an account: the browser, while it was one alone. Of accounts that were begun before, nobody knows.
CREATE TABLE illumicode_registration (
  subject   TEXT NOT NULL PRIMARY KEY,
  ticket    TEXT NOT NULL,
  contested INTEGER NOT NULL,
  since     BIGINT NOT NULL
);
INSERT INTO illumicode_registration (subject, ticket, contested, since)
  SELECT DISTINCT subject, '', 1, 0 FROM illumicode_address WHERE standing = 'unconfirmed' AND subject <> '';
CREATE INDEX illumicode_holder_subject ON illumicode_holder (subject);
