-- What the deliveries of a list have in common stands once; each has its own beside it.
CREATE TABLE illumicode_shared (
  id   TEXT NOT NULL PRIMARY KEY, -- of the list
  data TEXT NOT NULL
);

DROP VIEW illumicode_outbox;
ALTER TABLE illumicode_delivery ADD COLUMN shared TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_ended ADD COLUMN shared TEXT NOT NULL DEFAULT '';
CREATE INDEX illumicode_delivery_shared ON illumicode_delivery (shared) WHERE shared <> '';
CREATE INDEX illumicode_ended_shared ON illumicode_ended (shared) WHERE shared <> '' AND state IN ('failed', 'unknown');
CREATE VIEW illumicode_outbox AS
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, anyway, asked_by, trace, subject, medium, shared FROM illumicode_delivery
  UNION ALL
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, anyway, asked_by, trace, subject, medium, shared FROM illumicode_ended;

-- Lists that are arriving. Their pieces are no list's yet, so that no worker takes them.
CREATE TABLE illumicode_spool (
  id    TEXT   NOT NULL PRIMARY KEY,
  lists TEXT   NOT NULL, -- JSON: the ids of the lists that they will be
  seen  BIGINT NOT NULL  -- when the last piece came; 0 once it is given up
);
