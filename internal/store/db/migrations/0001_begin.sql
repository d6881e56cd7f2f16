-- Instants are Unix milliseconds, UTC; 0 stands for "not yet". Lives are milliseconds.
-- Identifiers are text, so that a person with a database shell can read them.

-- What is known of an address for an account. The account itself is the application's.
CREATE TABLE illumicode_address (
  subject  TEXT NOT NULL,
  address  TEXT NOT NULL,           -- as it was given
  standing TEXT NOT NULL,           -- unconfirmed, confirmed
  since    BIGINT NOT NULL,
  PRIMARY KEY (subject, address)
);

-- Who holds a mailbox as confirmed: at most one subject.
CREATE TABLE illumicode_holder (
  mailbox TEXT NOT NULL PRIMARY KEY, -- lower case, domain in A-labels
  subject TEXT NOT NULL,
  since   BIGINT NOT NULL
);

-- One request to prove control of an address. Neither code nor token nor ticket is stored: the
-- first two are derived under the key kid, of the third only a digest is kept.
CREATE TABLE illumicode_challenge (
  id             TEXT NOT NULL PRIMARY KEY,
  purpose        TEXT NOT NULL,
  subject        TEXT NOT NULL,
  address        TEXT NOT NULL,
  name           TEXT NOT NULL,      -- display name for the letter
  locale         TEXT NOT NULL,
  kid            TEXT NOT NULL,
  ticket         TEXT NOT NULL,      -- SHA-256 of the ticket, base64url
  state          TEXT NOT NULL,      -- open, accepted
  decoy          INTEGER NOT NULL,   -- 1: made for an answer that must not tell
  created        BIGINT NOT NULL,
  ends           BIGINT NOT NULL,    -- the hard cap
  code_life      BIGINT NOT NULL,
  link_life      BIGINT NOT NULL,
  digits         INTEGER NOT NULL,
  tries          INTEGER NOT NULL,
  tries_allowed  INTEGER NOT NULL,
  generation     INTEGER NOT NULL,
  code_from      BIGINT NOT NULL,    -- first hand-over of this generation
  previous_until BIGINT NOT NULL,    -- end of the generation before
  link_from      BIGINT NOT NULL,    -- first hand-over of any letter
  resends        INTEGER NOT NULL,
  resend_after   BIGINT NOT NULL,
  proved         BIGINT NOT NULL,
  proved_by      TEXT NOT NULL,      -- code, link
  accepted       BIGINT NOT NULL
);
CREATE UNIQUE INDEX illumicode_challenge_ticket ON illumicode_challenge (ticket);
CREATE INDEX illumicode_challenge_open ON illumicode_challenge (subject, purpose) WHERE state = 'open';

-- One letter to one envelope recipient. It never holds a rendered secret.
CREATE TABLE illumicode_delivery (
  id             TEXT NOT NULL PRIMARY KEY,
  challenge      TEXT NOT NULL,      -- '' for a letter without proof
  generation     INTEGER NOT NULL,   -- of the code it carries; 0 without one
  letter         TEXT NOT NULL,
  locale         TEXT NOT NULL,
  address        TEXT NOT NULL,
  name           TEXT NOT NULL,
  data           TEXT NOT NULL,      -- JSON object; erased once the delivery has ended
  lane           TEXT NOT NULL,      -- urgent, normal, bulk
  state          TEXT NOT NULL,      -- waiting, claimed, sent, failed, cancelled, expired
  created        BIGINT NOT NULL,
  due            BIGINT NOT NULL,
  deliver_before BIGINT NOT NULL,
  claim          BIGINT NOT NULL,    -- counts claims: the fence of every later write
  worker         TEXT NOT NULL,
  claimed        BIGINT NOT NULL,
  attempts       INTEGER NOT NULL,   -- begun
  spent          INTEGER NOT NULL,   -- of these, those that count against the limit
  fixed          BIGINT NOT NULL,    -- the instant that every attempt's letter is dated with
  ended          BIGINT NOT NULL,
  note           TEXT NOT NULL       -- why it is where it is, in words
);
CREATE INDEX illumicode_delivery_due ON illumicode_delivery (lane, due, id) WHERE state = 'waiting';
CREATE INDEX illumicode_delivery_claimed ON illumicode_delivery (worker) WHERE state = 'claimed';
CREATE INDEX illumicode_delivery_challenge ON illumicode_delivery (challenge) WHERE challenge <> '';

-- One try to hand a delivery to a provider, committed before the first byte of the letter.
-- An attempt that has not ended and whose worker is gone may have been taken: it is ambiguous.
CREATE TABLE illumicode_attempt (
  delivery TEXT NOT NULL,
  number   INTEGER NOT NULL,
  claim    BIGINT NOT NULL,
  worker   TEXT NOT NULL,
  provider TEXT NOT NULL,
  begun    BIGINT NOT NULL,
  ended    BIGINT NOT NULL,
  class    TEXT NOT NULL,            -- '' until it has ended
  code     INTEGER NOT NULL,         -- the provider's reply: SMTP code
  enhanced TEXT NOT NULL,            -- RFC 3463
  reply    TEXT NOT NULL,            -- in full
  PRIMARY KEY (delivery, number)
);

-- The processes that deliver. A claim is good while its worker's lease is.
CREATE TABLE illumicode_worker (
  id      TEXT NOT NULL PRIMARY KEY,
  host    TEXT NOT NULL,
  pid     INTEGER NOT NULL,
  started BIGINT NOT NULL,
  seen    BIGINT NOT NULL,
  lease   BIGINT NOT NULL            -- until when
);
