-- How the listeners of a node stand: those of its sources whose senders do not come by HTTP.
ALTER TABLE node ADD COLUMN listeners jsonb NOT NULL DEFAULT '[]';
