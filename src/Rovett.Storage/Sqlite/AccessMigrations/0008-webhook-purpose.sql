-- What a webhook is called for: receipts, or missed deadlines that name it (otherwise).
ALTER TABLE webhook ADD COLUMN purpose TEXT NOT NULL DEFAULT 'receipts';
