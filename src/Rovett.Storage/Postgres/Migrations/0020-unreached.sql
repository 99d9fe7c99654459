-- Nodes that a node can't reach over the network, by their incarnations.
ALTER TABLE node ADD COLUMN unreached uuid[] NOT NULL DEFAULT '{}';
