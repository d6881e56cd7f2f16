-- What comes back about letters, and what follows from it.

-- What a mail system or a provider has said of a letter. A repeat has the same id.
CREATE TABLE illumicode_feedback (
  id       TEXT NOT NULL PRIMARY KEY,
  source   TEXT NOT NULL,    -- the provider whose words these are, or mail
  delivery TEXT NOT NULL,    -- empty until it is known
  remote   TEXT NOT NULL,    -- the provider's own id of the letter; empty where the delivery was named
  mailbox  TEXT NOT NULL,    -- of those that something followed from
  kind     TEXT NOT NULL,
  status   TEXT NOT NULL,    -- RFC 3463
  words    TEXT NOT NULL,
  happened BIGINT NOT NULL,
  taken    BIGINT NOT NULL,
  next     BIGINT NOT NULL,  -- when to look at it, while it waits
  state    TEXT NOT NULL,    -- waiting, applied, aside
  note     TEXT NOT NULL     -- what followed, or why nothing did
);
CREATE INDEX illumicode_feedback_next ON illumicode_feedback (next) WHERE state = 'waiting';
CREATE INDEX illumicode_feedback_delivery ON illumicode_feedback (delivery) WHERE delivery <> '';
CREATE INDEX illumicode_feedback_mailbox ON illumicode_feedback (mailbox) WHERE mailbox <> '';
CREATE INDEX illumicode_feedback_taken ON illumicode_feedback (taken);
CREATE INDEX illumicode_attempt_remote ON illumicode_attempt (remote) WHERE remote <> '';

-- An address can be suppressed for more than one reason, of which one may end before the others.
CREATE TABLE illumicode_suppression_wide (
  thumb         TEXT NOT NULL,
  kid           TEXT NOT NULL,   -- of the key that the thumbprint is under
  mailbox       TEXT NOT NULL,
  scope         TEXT NOT NULL,   -- all, bounced, notices
  reason        TEXT NOT NULL,
  since         BIGINT NOT NULL,
  let_at        BIGINT NOT NULL, -- when a challenge was last let through to an address that bounced, and which
  let_challenge TEXT NOT NULL,
  PRIMARY KEY (thumb, scope)
);
INSERT INTO illumicode_suppression_wide SELECT thumb, kid, mailbox, scope, reason, since, 0, '' FROM illumicode_suppression;
DROP TABLE illumicode_suppression;
ALTER TABLE illumicode_suppression_wide RENAME TO illumicode_suppression;
