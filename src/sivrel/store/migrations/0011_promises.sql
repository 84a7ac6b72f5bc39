-- What a remedy for flicker promised, with the sequence that it was rendered as.
ALTER TABLE sequences ADD COLUMN promised TEXT;
