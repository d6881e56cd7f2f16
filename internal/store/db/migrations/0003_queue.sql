-- What the outbox needs beyond one letter at a time.

-- Instant and signature that the first attempt fixes belong to it.
ALTER TABLE illumicode_attempt ADD COLUMN fixed BIGINT NOT NULL DEFAULT 0;
ALTER TABLE illumicode_attempt ADD COLUMN signature TEXT NOT NULL DEFAULT '';
UPDATE illumicode_attempt SET fixed = (SELECT d.fixed FROM illumicode_delivery d WHERE d.id = delivery),
  signature = (SELECT d.signature FROM illumicode_delivery d WHERE d.id = delivery)
  WHERE number = 1 AND EXISTS (SELECT 1 FROM illumicode_delivery d WHERE d.id = delivery);
ALTER TABLE illumicode_delivery DROP COLUMN fixed;
ALTER TABLE illumicode_delivery DROP COLUMN signature;

ALTER TABLE illumicode_delivery ADD COLUMN version INTEGER NOT NULL DEFAULT 1; -- of what the row means; newer ones are left to newer workers
ALTER TABLE illumicode_delivery ADD COLUMN once INTEGER NOT NULL DEFAULT 0;    -- 1: at most once; an ambiguous attempt holds it
ALTER TABLE illumicode_delivery ADD COLUMN held_by TEXT NOT NULL DEFAULT '';   -- asked, perhaps sent, guard, or the pause "letter: …", "domain: …", "provider: …"
ALTER TABLE illumicode_delivery ADD COLUMN app_key TEXT NOT NULL DEFAULT '';   -- the application's own, to move or cancel by
ALTER TABLE illumicode_delivery ADD COLUMN lead BIGINT NOT NULL DEFAULT 0;     -- of a reminder: how long before the moment it is due
ALTER TABLE illumicode_delivery ADD COLUMN collapse TEXT NOT NULL DEFAULT '';  -- the key under which further notices join this one
ALTER TABLE illumicode_delivery ADD COLUMN fallback TEXT NOT NULL DEFAULT '';  -- the address to try when this one has failed
ALTER TABLE illumicode_delivery ADD COLUMN asked_by TEXT NOT NULL DEFAULT '';  -- what asked for it, in words
ALTER TABLE illumicode_delivery ADD COLUMN trace TEXT NOT NULL DEFAULT '';     -- W3C traceparent of the request

CREATE INDEX illumicode_delivery_key ON illumicode_delivery (app_key) WHERE app_key <> '';
CREATE INDEX illumicode_delivery_held ON illumicode_delivery (held_by) WHERE state = 'held';
CREATE UNIQUE INDEX illumicode_delivery_collapse ON illumicode_delivery (collapse) WHERE collapse <> '' AND state = 'waiting';

-- Deliveries that have ended leave the table that is worked on: it stays as small as what is on
-- its way, and this one is only added to until its oldest rows are removed.
CREATE TABLE illumicode_ended (
  id             TEXT NOT NULL PRIMARY KEY,
  challenge      TEXT NOT NULL,
  generation     INTEGER NOT NULL,
  letter         TEXT NOT NULL,
  locale         TEXT NOT NULL,
  address        TEXT NOT NULL,
  name           TEXT NOT NULL,
  data           TEXT NOT NULL,      -- {} unless it failed
  lane           TEXT NOT NULL,
  state          TEXT NOT NULL,      -- sent, failed, cancelled, expired, suppressed
  created        BIGINT NOT NULL,
  due            BIGINT NOT NULL,
  deliver_before BIGINT NOT NULL,
  claim          BIGINT NOT NULL,
  worker         TEXT NOT NULL,
  claimed        BIGINT NOT NULL,
  attempts       INTEGER NOT NULL,
  spent          INTEGER NOT NULL,
  ended          BIGINT NOT NULL,
  note           TEXT NOT NULL,
  zone           TEXT NOT NULL,
  visible        TEXT NOT NULL,
  bundle         TEXT NOT NULL,
  version        INTEGER NOT NULL,
  once           INTEGER NOT NULL,
  held_by        TEXT NOT NULL,
  app_key        TEXT NOT NULL,
  lead           BIGINT NOT NULL,
  collapse       TEXT NOT NULL,
  fallback       TEXT NOT NULL,
  asked_by       TEXT NOT NULL,
  trace          TEXT NOT NULL
);
CREATE INDEX illumicode_ended_bundle ON illumicode_ended (bundle) WHERE bundle <> '' AND state = 'failed';
CREATE INDEX illumicode_delivery_bundle ON illumicode_delivery (bundle) WHERE bundle <> '';
INSERT INTO illumicode_ended SELECT id, challenge, generation, letter, locale, address, name, '{}', lane, state, created, due,
  deliver_before, claim, worker, claimed, attempts, spent, ended, note, zone, visible, bundle,
  version, once, held_by, app_key, lead, collapse, fallback, asked_by, trace
  FROM illumicode_delivery WHERE state NOT IN ('waiting', 'claimed');
DELETE FROM illumicode_delivery WHERE state NOT IN ('waiting', 'claimed');

-- Every delivery, on its way or ended.
CREATE VIEW illumicode_outbox AS
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead, collapse,
    fallback, asked_by, trace FROM illumicode_delivery
  UNION ALL
  SELECT id, challenge, generation, letter, locale, address, name, data, lane, state, created, due, deliver_before, claim,
    worker, claimed, attempts, spent, ended, note, zone, visible, bundle, version, once, held_by, app_key, lead, collapse,
    fallback, asked_by, trace FROM illumicode_ended;

-- What joined a delivery while it waited: the values of each further notice.
CREATE TABLE illumicode_item (
  delivery TEXT NOT NULL,
  id       TEXT NOT NULL,
  data     TEXT NOT NULL,
  PRIMARY KEY (delivery, id)
);

-- A notice to many, committed as one row and its list in pieces; workers turn each piece into
-- deliveries.
CREATE TABLE illumicode_fanout (
  id             TEXT NOT NULL PRIMARY KEY,
  draft          TEXT NOT NULL,      -- JSON: the delivery that all get
  letter         TEXT NOT NULL,
  lane           TEXT NOT NULL,
  bundle         TEXT NOT NULL,
  app_key        TEXT NOT NULL,
  due            BIGINT NOT NULL,
  lead           BIGINT NOT NULL,
  deliver_before BIGINT NOT NULL,
  created        BIGINT NOT NULL
);
CREATE INDEX illumicode_fanout_key ON illumicode_fanout (app_key) WHERE app_key <> '';
CREATE TABLE illumicode_fanout_piece (
  fanout TEXT NOT NULL,
  piece  INTEGER NOT NULL,
  people TEXT NOT NULL,              -- JSON: who they are
  PRIMARY KEY (fanout, piece)
);

-- De-duplication: what was asked for under a key, and what came of it.
CREATE TABLE illumicode_once (
  name   TEXT NOT NULL PRIMARY KEY,
  digest TEXT NOT NULL,
  result TEXT NOT NULL,
  made   BIGINT NOT NULL
);
CREATE INDEX illumicode_once_made ON illumicode_once (made);

-- Events (CloudEvents 1.0) that any program may insert in a transaction of its own: source, id
-- and type suffice. A worker consumes them.
CREATE TABLE illumicode_event (
  seq     @serial(),
  source  TEXT NOT NULL,
  id      TEXT NOT NULL,
  type    TEXT NOT NULL,
  subject TEXT NOT NULL DEFAULT '',
  time    TEXT NOT NULL DEFAULT '',  -- RFC 3339
  data    TEXT NOT NULL DEFAULT '{}' -- JSON
);
-- Events that no rule could take, with the reason.
CREATE TABLE illumicode_event_aside (
  seq     BIGINT NOT NULL PRIMARY KEY,
  source  TEXT NOT NULL,
  id      TEXT NOT NULL,
  type    TEXT NOT NULL,
  subject TEXT NOT NULL,
  time    TEXT NOT NULL,
  data    TEXT NOT NULL,
  reason  TEXT NOT NULL,
  at      BIGINT NOT NULL
);

-- What a person wants to get, by category; no row means yes.
CREATE TABLE illumicode_preference (
  mailbox  TEXT NOT NULL,            -- lower case, domain in A-labels
  category TEXT NOT NULL,
  wanted   INTEGER NOT NULL,
  since    BIGINT NOT NULL,
  PRIMARY KEY (mailbox, category)
);

-- What no worker may send at present, on any machine.
CREATE TABLE illumicode_pause (
  kind  TEXT NOT NULL,               -- lane, letter, provider, domain
  name  TEXT NOT NULL,
  since BIGINT NOT NULL,
  note  TEXT NOT NULL,
  PRIMARY KEY (kind, name)
);

-- site: the base URL of the site this database sends for.
CREATE TABLE illumicode_setting (
  name  TEXT NOT NULL PRIMARY KEY,
  value TEXT NOT NULL
);
