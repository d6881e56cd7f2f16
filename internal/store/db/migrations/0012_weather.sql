-- How letters to one recipient domain fare with one provider, since it asked for fewer of them or refused our account.
-- Workers write it and forget it; it has a thousand rows at most.
CREATE TABLE illumicode_pace (
  provider TEXT NOT NULL,
  domain   TEXT NOT NULL,
  health   TEXT NOT NULL,
  slowed   BIGINT NOT NULL, -- when fewer letters were last asked for; 0 for never
  accused  BIGINT NOT NULL, -- when our account was last refused
  changed  BIGINT NOT NULL,
  PRIMARY KEY (provider, domain)
);

-- Whether a letter's fallback goes also where it is not known if the letter has arrived.
DROP VIEW illumicode_outbox;
ALTER TABLE illumicode_delivery ADD COLUMN anyway INTEGER NOT NULL DEFAULT 0;
ALTER TABLE illumicode_ended ADD COLUMN anyway INTEGER NOT NULL DEFAULT 0;
CREATE VIEW illumicode_outbox AS
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, anyway, asked_by, trace, subject, medium FROM illumicode_delivery
  UNION ALL
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, free, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead,
    collapse, fallback, anyway, asked_by, trace, subject, medium FROM illumicode_ended;
