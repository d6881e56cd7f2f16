-- People who are being erased. A row goes when its erasure has ended, and the address with it.
CREATE TABLE illumicode_erasure (
  id        TEXT    NOT NULL PRIMARY KEY,
  mailbox   TEXT    NOT NULL,
  spellings TEXT    NOT NULL, -- JSON: how the mailbox is written in the tables
  began     BIGINT  NOT NULL,
  stage     INTEGER NOT NULL, -- how many steps are done
  position  TEXT    NOT NULL, -- JSON: the key of the last row that was looked at in this step
  changed   BIGINT  NOT NULL, -- rows erased or changed
  looked    BIGINT  NOT NULL, -- rows looked at
  remains   TEXT    NOT NULL  -- JSON: where the address was found and stays
);

CREATE INDEX illumicode_change_new ON illumicode_change (new_mailbox);
CREATE INDEX illumicode_suppression_mailbox ON illumicode_suppression (mailbox) WHERE mailbox <> '';
CREATE INDEX illumicode_delivery_fallback ON illumicode_delivery (LOWER(fallback)) WHERE fallback <> '';
