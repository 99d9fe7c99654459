-- Intervals that ended before anything that is still stored: retention lets them go.
CREATE INDEX membership_closed ON membership (space, until) WHERE until IS NOT NULL;
