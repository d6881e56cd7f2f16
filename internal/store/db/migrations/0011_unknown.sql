-- What may have been sent, and what failed, can be tried again: both need their attachments.
DROP INDEX illumicode_ended_bundle;
CREATE INDEX illumicode_ended_bundle ON illumicode_ended (bundle) WHERE bundle <> '' AND state IN ('failed', 'unknown');

-- Since when a letter has been free to leave: its first claim, or the first after it was held.
DROP VIEW illumicode_outbox;
ALTER TABLE illumicode_delivery ADD COLUMN free BIGINT NOT NULL DEFAULT 0;
ALTER TABLE illumicode_ended ADD COLUMN free BIGINT NOT NULL DEFAULT 0;
CREATE VIEW illumicode_outbox AS
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, asked_by, trace, subject, medium FROM illumicode_delivery
  UNION ALL
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, asked_by, trace, subject, medium FROM illumicode_ended;
