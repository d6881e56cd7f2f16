-- What the first attempt of a delivery has fixed, beside the instant: its DKIM signatures, which hold
-- the second in which they were made. All attempts carry the same bytes.
ALTER TABLE illumicode_delivery ADD COLUMN signature TEXT NOT NULL DEFAULT '';
