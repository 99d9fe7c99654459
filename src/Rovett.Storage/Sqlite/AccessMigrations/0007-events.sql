-- The events that a key may publish: types and sources, exact or ending in *, as JSON arrays; both empty: any, unless it is
-- narrowed to types or addresses of notifications.
ALTER TABLE api_key ADD COLUMN events TEXT NOT NULL DEFAULT '';
ALTER TABLE api_key ADD COLUMN sources TEXT NOT NULL DEFAULT '';
