-- What the meters counted, a row for each span of time: space '' is the whole service. Times and lengths in seconds.
CREATE TABLE meter_span (
  space TEXT NOT NULL,
  length INTEGER NOT NULL,
  start INTEGER NOT NULL,
  counted TEXT NOT NULL, -- a JSON object
  PRIMARY KEY (space, length, start)
) WITHOUT ROWID;

-- When the service started, with its version; times in microseconds.
CREATE TABLE service_start (time INTEGER PRIMARY KEY, version TEXT NOT NULL);
