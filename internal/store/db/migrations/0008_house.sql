-- Who did what a line of the trail tells: "operator" at a desk; empty for the flows, whose lines name a network.
ALTER TABLE illumicode_trail ADD COLUMN actor TEXT NOT NULL DEFAULT '';

-- Letters are looked up by mailbox, in whatever case they were addressed.
CREATE INDEX illumicode_delivery_mailbox ON illumicode_delivery (LOWER(address));
DROP INDEX illumicode_ended_address;
CREATE INDEX illumicode_ended_mailbox ON illumicode_ended (LOWER(address));

CREATE INDEX illumicode_ended_key ON illumicode_ended (app_key) WHERE app_key <> '';
CREATE INDEX illumicode_ended_challenge ON illumicode_ended (challenge) WHERE challenge <> '';
CREATE INDEX illumicode_change_old ON illumicode_change (old_mailbox);
