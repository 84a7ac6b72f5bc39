-- What the limits of a proof cost it.
ALTER TABLE proofs ADD COLUMN meters TEXT NOT NULL DEFAULT '{}';
