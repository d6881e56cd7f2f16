-- Whether the service that began a challenge, or confirmed an address, hears when it lapses: then only such a one closes
-- it. Of what is there nobody knows; it waits for one that hears.
ALTER TABLE illumicode_challenge ADD COLUMN heard INTEGER NOT NULL DEFAULT 1;
ALTER TABLE illumicode_address ADD COLUMN heard INTEGER NOT NULL DEFAULT 1;

-- The challenge whose letter let another browser begin this one.
ALTER TABLE illumicode_challenge ADD COLUMN origin TEXT NOT NULL DEFAULT '';
CREATE INDEX illumicode_challenge_origin ON illumicode_challenge (origin) WHERE origin <> '';

-- What an account is made of once its address is confirmed, sealed; and the account that was made.
ALTER TABLE illumicode_challenge ADD COLUMN sealed TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_challenge ADD COLUMN made TEXT NOT NULL DEFAULT '';
