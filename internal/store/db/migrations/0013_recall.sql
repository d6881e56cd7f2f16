-- Letters that were called back. What a recall chooses is neither claimed nor begun while it holds; '' and 0 choose all.
CREATE TABLE illumicode_recall (
  id        TEXT   NOT NULL PRIMARY KEY,
  delivery  TEXT   NOT NULL,
  lane      TEXT   NOT NULL,
  letter    TEXT   NOT NULL,
  address   TEXT   NOT NULL,
  app_key   TEXT   NOT NULL,
  subject   TEXT   NOT NULL,
  since     BIGINT NOT NULL, -- asked for then or later
  until     BIGINT NOT NULL, -- asked for earlier; 0 for ever
  why       TEXT   NOT NULL,
  made      BIGINT NOT NULL,
  ended     BIGINT NOT NULL  -- 0 while it holds
);

-- Deliveries that a recall chooses and that may go nevertheless.
CREATE TABLE illumicode_recall_pass (
  recall   TEXT NOT NULL,
  delivery TEXT NOT NULL,
  PRIMARY KEY (recall, delivery)
);
