-- Whether what could not be read is a payload as it came, or one item of a payload.
ALTER TABLE unreadable ADD COLUMN item boolean NOT NULL DEFAULT false;
