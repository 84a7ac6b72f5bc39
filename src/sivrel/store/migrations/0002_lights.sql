-- Edits of lights and objects, what each light did, and questions that the worker answers beside its renders.
ALTER TABLE proofs ADD COLUMN edits TEXT NOT NULL DEFAULT '{}';
ALTER TABLE proofs ADD COLUMN lights TEXT NOT NULL DEFAULT '[]';
ALTER TABLE proofs ADD COLUMN passes TEXT NOT NULL DEFAULT '[]';
ALTER TABLE proofs ADD COLUMN maps TEXT NOT NULL DEFAULT '[]';
ALTER TABLE shots ADD COLUMN lights TEXT NOT NULL DEFAULT '[]';
CREATE TABLE questions (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    body TEXT NOT NULL,
    asked_at TEXT NOT NULL,
    taken INTEGER NOT NULL DEFAULT 0,
    answer TEXT,
    problem TEXT NOT NULL DEFAULT ''
);
