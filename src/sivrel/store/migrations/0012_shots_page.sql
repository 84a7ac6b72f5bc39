-- When a shot was last worked on, and the proof whose picture stands for it on the shots page.
ALTER TABLE shots ADD COLUMN used_at TEXT;
ALTER TABLE shots ADD COLUMN cover_id INTEGER REFERENCES proofs (id) ON DELETE SET NULL;
