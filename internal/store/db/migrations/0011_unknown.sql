-- What may have been sent, and what failed, can be tried again: both need their attachments.
DROP INDEX illumicode_ended_bundle;
CREATE INDEX illumicode_ended_bundle ON illumicode_ended (bundle) WHERE bundle <> '' AND state IN ('failed', 'unknown');
