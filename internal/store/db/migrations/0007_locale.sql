-- In which language to write to somebody who does not ask just now. The one of a change is the old address's.
ALTER TABLE illumicode_address ADD COLUMN locale TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_change ADD COLUMN locale TEXT NOT NULL DEFAULT '';
