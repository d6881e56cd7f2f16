-- Least privilege: what each kind of process needs. Name the roles as you like, and grant them to
-- the users that log in. The owner of the tables migrates, and runs this again after an upgrade: it does
-- no harm, and roles belong to all databases of a server.
--
-- illumicode_web      begins and confirms flows, enqueues and cancels
-- illumicode_worker   delivers, expands lists, takes events, sweeps
-- illumicode_events   reports events, and sees nothing
DO $$
DECLARE name text;
BEGIN
  FOREACH name IN ARRAY ARRAY['illumicode_web', 'illumicode_worker', 'illumicode_events'] LOOP
    IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = name) THEN
      EXECUTE format('CREATE ROLE %I NOLOGIN', name);
    END IF;
  END LOOP;
END $$;

GRANT SELECT ON illumicode_migration, illumicode_address, illumicode_holder, illumicode_challenge, illumicode_delivery,
  illumicode_ended, illumicode_outbox, illumicode_attempt, illumicode_worker, illumicode_attachment, illumicode_attachment_piece,
  illumicode_item, illumicode_fanout, illumicode_fanout_piece, illumicode_once, illumicode_event, illumicode_event_aside,
  illumicode_preference, illumicode_pause, illumicode_recall, illumicode_recall_pass, illumicode_setting, illumicode_change, illumicode_trail, illumicode_failure,
  illumicode_suppression, illumicode_tally, illumicode_way, illumicode_pace, illumicode_share, illumicode_feedback, illumicode_browser,
  illumicode_registration, illumicode_shared, illumicode_spool, illumicode_erasure, illumicode_process TO illumicode_web, illumicode_worker;
GRANT INSERT, DELETE ON illumicode_shared, illumicode_spool, illumicode_process TO illumicode_web, illumicode_worker;
GRANT UPDATE ON illumicode_spool, illumicode_process TO illumicode_web, illumicode_worker;

GRANT INSERT ON illumicode_address, illumicode_holder, illumicode_challenge, illumicode_delivery, illumicode_ended,
  illumicode_attachment, illumicode_attachment_piece, illumicode_item, illumicode_fanout, illumicode_fanout_piece,
  illumicode_once, illumicode_event, illumicode_preference, illumicode_change, illumicode_trail, illumicode_failure,
  illumicode_tally, illumicode_feedback, illumicode_browser, illumicode_registration TO illumicode_web;
GRANT UPDATE ON illumicode_address, illumicode_challenge, illumicode_delivery, illumicode_fanout, illumicode_preference, illumicode_change,
  illumicode_failure, illumicode_tally, illumicode_browser, illumicode_registration TO illumicode_web;
GRANT DELETE ON illumicode_delivery, illumicode_item, illumicode_fanout, illumicode_fanout_piece, illumicode_address, illumicode_holder,
  illumicode_browser TO illumicode_web;
GRANT DELETE ON illumicode_suppression TO illumicode_web; -- a proof ends what a bounce began
GRANT DELETE ON illumicode_tally TO illumicode_web; -- where it runs without senders, and does what time asks for

GRANT INSERT ON illumicode_delivery, illumicode_ended, illumicode_attempt, illumicode_worker, illumicode_item, illumicode_fanout,
  illumicode_fanout_piece, illumicode_once, illumicode_event, illumicode_event_aside, illumicode_setting, illumicode_challenge,
  illumicode_trail, illumicode_tally, illumicode_way, illumicode_pace, illumicode_share, illumicode_feedback, illumicode_suppression TO illumicode_worker;
GRANT UPDATE ON illumicode_delivery, illumicode_attempt, illumicode_worker, illumicode_challenge, illumicode_ended, illumicode_fanout,
  illumicode_fanout_piece, illumicode_event, illumicode_change,
  illumicode_tally, illumicode_way, illumicode_pace, illumicode_share, illumicode_feedback, illumicode_suppression TO illumicode_worker;
GRANT UPDATE (standing, since, reason, asked, grace_ends) ON illumicode_address TO illumicode_worker;
GRANT DELETE ON illumicode_delivery, illumicode_ended, illumicode_attempt, illumicode_worker, illumicode_item, illumicode_fanout,
  illumicode_fanout_piece, illumicode_once, illumicode_event, illumicode_attachment, illumicode_attachment_piece,
  illumicode_address, illumicode_holder, illumicode_trail, illumicode_failure, illumicode_challenge, illumicode_change,
  illumicode_tally, illumicode_pace, illumicode_share, illumicode_feedback, illumicode_browser TO illumicode_worker;

GRANT INSERT ON illumicode_event TO illumicode_events;

-- A worker says of an address that it has bounced, and nothing better.
CREATE OR REPLACE FUNCTION illumicode_only_bounced() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF NEW.standing <> OLD.standing AND NEW.standing <> 'bounced' AND pg_has_role(current_user, 'illumicode_worker', 'MEMBER')
      AND NOT pg_has_role(current_user, 'illumicode_web', 'MEMBER') THEN
    RAISE insufficient_privilege USING MESSAGE = 'a worker makes no address ' || NEW.standing;
  END IF;
  RETURN NEW;
END $$;
CREATE OR REPLACE TRIGGER illumicode_only_bounced BEFORE UPDATE OF standing ON illumicode_address
  FOR EACH ROW EXECUTE FUNCTION illumicode_only_bounced();
