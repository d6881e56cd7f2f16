-- A challenge and a change carry a keyed digest of what they are, made at their beginning: whoever writes to the database
-- makes them no other's. What is open has none, and ends: care tells the application of it, and sets old mailboxes free.
ALTER TABLE illumicode_challenge ADD COLUMN bound TEXT NOT NULL DEFAULT '';
ALTER TABLE illumicode_change ADD COLUMN bound TEXT NOT NULL DEFAULT '';
UPDATE illumicode_challenge SET ends = created WHERE state = 'open';
UPDATE illumicode_change SET state = 'stopped' WHERE state = 'pending';
UPDATE illumicode_change SET undo_ends = made WHERE state = 'made';
