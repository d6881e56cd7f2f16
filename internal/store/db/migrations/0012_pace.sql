-- How letters to one recipient domain fare with one provider, since it asked for fewer of them or refused our account.
-- Workers write it and forget it; it has a thousand rows at most.
CREATE TABLE illumicode_pace (
  provider TEXT NOT NULL,
  domain   TEXT NOT NULL,
  health   TEXT NOT NULL,
  slowed   BIGINT NOT NULL, -- when fewer letters were last asked for; 0 for never
  accused  BIGINT NOT NULL, -- when our account was last refused
  changed  BIGINT NOT NULL,
  PRIMARY KEY (provider, domain)
);
