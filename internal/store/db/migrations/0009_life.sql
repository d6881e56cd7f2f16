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

-- A notice to a subject has no address until its first attempt: then it goes to the one that the subject has, by mail or
-- as a text message.
DROP VIEW illumicode_outbox;
ALTER TABLE illumicode_delivery ADD COLUMN subject TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_delivery ADD COLUMN medium TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_ended ADD COLUMN subject TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_ended ADD COLUMN medium TEXT NOT NULL DEFAULT '';
CREATE INDEX illumicode_delivery_subject ON illumicode_delivery (subject) WHERE subject <> '';
CREATE VIEW illumicode_outbox AS
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead, collapse,
    fallback, asked_by, trace, subject, medium FROM illumicode_delivery
  UNION ALL
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead, collapse,
    fallback, asked_by, trace, subject, medium FROM illumicode_ended;
