-- Ladders, budgets, matches and advice: what was asked of which proof, and what came of it; proofs that were made of one, with what it predicted.
CREATE TABLE tunings (
    id INTEGER PRIMARY KEY,
    proof_id INTEGER NOT NULL REFERENCES proofs(id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    asked TEXT NOT NULL,
    result TEXT,
    problem TEXT NOT NULL DEFAULT '',
    question INTEGER,
    made_at TEXT NOT NULL
);
CREATE INDEX tunings_of_proof ON tunings(proof_id, kind);
CREATE TABLE applied (
    proof_id INTEGER PRIMARY KEY REFERENCES proofs(id) ON DELETE CASCADE,
    tuning_id INTEGER NOT NULL REFERENCES tunings(id) ON DELETE CASCADE,
    words TEXT NOT NULL,
    predicted TEXT NOT NULL
);
CREATE INDEX applied_of_tuning ON applied(tuning_id);
