-- What a letter has besides its words.

ALTER TABLE illumicode_delivery ADD COLUMN signature TEXT NOT NULL DEFAULT ''; -- DKIM, fixed by the first attempt
ALTER TABLE illumicode_delivery ADD COLUMN zone TEXT NOT NULL DEFAULT '';      -- the reader's time zone
ALTER TABLE illumicode_delivery ADD COLUMN visible TEXT NOT NULL DEFAULT '';   -- JSON: To, Cc and the like, where there is more than the address
ALTER TABLE illumicode_delivery ADD COLUMN bundle TEXT NOT NULL DEFAULT '';    -- deliveries of one letter to several, and what is attached to it
ALTER TABLE illumicode_attempt ADD COLUMN remote TEXT NOT NULL DEFAULT '';     -- the provider's own id of the letter

-- Attachments belong to a bundle and are erased with the last of its deliveries. Their contents
-- stand in pieces, so that neither writing nor sending one holds it in memory.
CREATE TABLE illumicode_attachment (
  bundle   TEXT NOT NULL,
  position INTEGER NOT NULL,
  name     TEXT NOT NULL,
  type     TEXT NOT NULL,
  cid      TEXT NOT NULL,     -- '' for one that the letter does not show
  size     BIGINT NOT NULL,
  PRIMARY KEY (bundle, position)
);
CREATE TABLE illumicode_attachment_piece (
  bundle   TEXT NOT NULL,
  position INTEGER NOT NULL,
  piece    INTEGER NOT NULL,
  bytes    @bytes() NOT NULL,
  PRIMARY KEY (bundle, position, piece)
);
