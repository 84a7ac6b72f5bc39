-- Moving shots: the frames of a shot's file (first, last, a second), sequences of frames that are rendered as one thing, and how each frame flickers.
ALTER TABLE shots ADD COLUMN frames TEXT NOT NULL DEFAULT '[]';
CREATE TABLE sequences (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    parent_id INTEGER REFERENCES sequences(id) ON DELETE SET NULL,
    recipe_id INTEGER NOT NULL REFERENCES recipes(id),
    edits TEXT NOT NULL,
    camera TEXT NOT NULL,
    width INTEGER NOT NULL,
    height INTEGER NOT NULL,
    seed INTEGER NOT NULL,
    frames TEXT NOT NULL,
    rate REAL NOT NULL,
    name TEXT NOT NULL DEFAULT '',
    cause TEXT,
    question INTEGER,
    created_at TEXT NOT NULL,
    deleted_at TEXT
);
ALTER TABLE proofs ADD COLUMN sequence_id INTEGER REFERENCES sequences(id) ON DELETE CASCADE;
ALTER TABLE proofs ADD COLUMN time REAL;
CREATE INDEX proofs_of_sequence ON proofs(sequence_id, time);
CREATE TABLE flickers (
    proof_id INTEGER NOT NULL REFERENCES proofs(id) ON DELETE CASCADE,
    filtered INTEGER NOT NULL,
    body TEXT NOT NULL,
    map TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (proof_id, filtered)
);
