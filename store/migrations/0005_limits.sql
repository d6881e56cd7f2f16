-- How often something happened: one row for each rule and key that is not idle.
CREATE TABLE illumicode_tally (
  name TEXT NOT NULL PRIMARY KEY,  -- of the rule, and a keyed thumbprint of what it counts by
  at   BIGINT NOT NULL,            -- Unix microseconds; what it means is the rule's
  n    BIGINT NOT NULL,
  idle BIGINT NOT NULL             -- Unix milliseconds: from then on the row says nothing
);
