-- What re-verification and sign-in need beside a signup.

ALTER TABLE illumicode_challenge ADD COLUMN letter TEXT NOT NULL DEFAULT 'confirm'; -- what carries the proof
ALTER TABLE illumicode_challenge ADD COLUMN data TEXT NOT NULL DEFAULT '{}';        -- JSON: what the letter says besides
ALTER TABLE illumicode_challenge ADD COLUMN forms TEXT NOT NULL DEFAULT 'both';     -- both, code, link
ALTER TABLE illumicode_challenge ADD COLUMN action TEXT NOT NULL DEFAULT '';        -- digest of the one thing that the proof is good for
ALTER TABLE illumicode_challenge ADD COLUMN mailbox TEXT NOT NULL DEFAULT '';       -- lower case, domain in A-labels
ALTER TABLE illumicode_challenge ADD COLUMN browser TEXT NOT NULL DEFAULT '';       -- of a known browser that began it: its id
ALTER TABLE illumicode_challenge ADD COLUMN why TEXT NOT NULL DEFAULT '';           -- why it was called off
ALTER TABLE illumicode_challenge ADD COLUMN tried BIGINT NOT NULL DEFAULT 0;        -- the last try
ALTER TABLE illumicode_challenge ADD COLUMN typed TEXT NOT NULL DEFAULT '';         -- the address as whoever began has typed it, if it was not given so
ALTER TABLE illumicode_challenge ADD COLUMN sent BIGINT NOT NULL DEFAULT 0;         -- when its letter was last asked for
UPDATE illumicode_challenge SET mailbox = LOWER(address), sent = created;
CREATE INDEX illumicode_challenge_mailbox ON illumicode_challenge (mailbox, purpose) WHERE state = 'open';
CREATE INDEX illumicode_challenge_due ON illumicode_challenge (ends) WHERE state = 'open';
CREATE INDEX illumicode_challenge_subject ON illumicode_challenge (subject);
CREATE INDEX illumicode_challenge_address ON illumicode_challenge (mailbox);

ALTER TABLE illumicode_address ADD COLUMN mailbox TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_address ADD COLUMN reason TEXT NOT NULL DEFAULT '';      -- why it stands as it does, in words
ALTER TABLE illumicode_address ADD COLUMN asked BIGINT NOT NULL DEFAULT 0;      -- when a stale one was last asked again
ALTER TABLE illumicode_address ADD COLUMN grace_ends BIGINT NOT NULL DEFAULT 0; -- until when the application lets a stale one work
UPDATE illumicode_address SET mailbox = LOWER(address);
CREATE INDEX illumicode_address_mailbox ON illumicode_address (mailbox);
CREATE INDEX illumicode_address_again ON illumicode_address (asked) WHERE standing IN ('stale', 'bounced');
CREATE INDEX illumicode_address_grace ON illumicode_address (grace_ends) WHERE grace_ends > 0;

-- Nobody's: what a sign-in reads where there is no account, so that it does the same work.
INSERT INTO illumicode_address (subject, address, mailbox, standing, since) VALUES ('', '', 'nobody', 'confirmed', 0);
INSERT INTO illumicode_holder (mailbox, subject, since) VALUES ('nobody', '', 0);

-- A change of address, which the holder of the old one can take back for some days.
CREATE TABLE illumicode_change (
  id          TEXT NOT NULL PRIMARY KEY,
  subject     TEXT NOT NULL,
  old_address TEXT NOT NULL,
  old_mailbox TEXT NOT NULL,
  new_address TEXT NOT NULL,
  new_mailbox TEXT NOT NULL,
  challenge   TEXT NOT NULL,
  state       TEXT NOT NULL,   -- pending, made, stopped, frozen, settled
  kid         TEXT NOT NULL,   -- of the key that signs the link of the old address
  made        BIGINT NOT NULL, -- asked for
  undo_ends   BIGINT NOT NULL,
  frozen      BIGINT NOT NULL  -- when the holder of the old address took it back
);
CREATE INDEX illumicode_change_subject ON illumicode_change (subject);
CREATE INDEX illumicode_change_challenge ON illumicode_change (challenge);
CREATE INDEX illumicode_change_due ON illumicode_change (undo_ends) WHERE state = 'made';

-- What became of challenges: who asked from where, what was tried. It holds no code and no token.
CREATE TABLE illumicode_trail (
  seq       @serial(),
  challenge TEXT NOT NULL,
  subject   TEXT NOT NULL,
  mailbox   TEXT NOT NULL,
  at        BIGINT NOT NULL,
  what      TEXT NOT NULL,     -- begun, resent, tried, proved, accepted, ended; of addresses: standing
  outcome   TEXT NOT NULL,
  network   TEXT NOT NULL      -- an address or a prefix; empty where the application did not say
);
CREATE INDEX illumicode_trail_challenge ON illumicode_trail (challenge);
CREATE INDEX illumicode_trail_mailbox ON illumicode_trail (mailbox);
CREATE INDEX illumicode_trail_subject ON illumicode_trail (subject);
CREATE INDEX illumicode_trail_at ON illumicode_trail (at);

-- Wrong codes at an address, by a known browser, or from a network. They fade.
CREATE TABLE illumicode_failure (
  name     TEXT NOT NULL PRIMARY KEY,
  failures BIGINT NOT NULL,    -- in thousandths, as they counted at the instant
  at       BIGINT NOT NULL
);

-- Addresses that must not be written to. Of a person who was forgotten only the thumbprint stays.
CREATE TABLE illumicode_suppression (
  thumb   TEXT NOT NULL PRIMARY KEY,
  kid     TEXT NOT NULL,       -- of the key that the thumbprint is under
  mailbox TEXT NOT NULL,
  scope   TEXT NOT NULL,       -- all, notices
  reason  TEXT NOT NULL,
  since   BIGINT NOT NULL
);

CREATE INDEX illumicode_ended_address ON illumicode_ended (address);
