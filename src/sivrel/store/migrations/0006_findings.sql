-- Diagnosis: what was found on a proof, what the artist waves off, and remedies with what they were predicted to do and did; and shots that are
-- pictures from elsewhere.
CREATE TABLE diagnoses (
    proof_id INTEGER PRIMARY KEY REFERENCES proofs(id) ON DELETE CASCADE,
    body TEXT NOT NULL,
    made_at TEXT NOT NULL
);
CREATE TABLE findings (
    id INTEGER PRIMARY KEY,
    proof_id INTEGER NOT NULL REFERENCES proofs(id) ON DELETE CASCADE,
    key TEXT NOT NULL,
    body TEXT NOT NULL,
    place INTEGER
);
CREATE INDEX findings_of_proof ON findings(proof_id);
CREATE TABLE dismissals (
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    key TEXT NOT NULL,
    reason TEXT NOT NULL,
    made_at TEXT NOT NULL,
    PRIMARY KEY (shot_id, key)
);
CREATE TABLE retests (
    id INTEGER PRIMARY KEY,
    finding_id INTEGER NOT NULL REFERENCES findings(id) ON DELETE CASCADE,
    proof_id INTEGER NOT NULL REFERENCES proofs(id) ON DELETE CASCADE,
    remedy TEXT NOT NULL,
    result TEXT,
    made_at TEXT NOT NULL
);
CREATE INDEX retests_of_proof ON retests(proof_id);
ALTER TABLE shots ADD COLUMN outside INTEGER NOT NULL DEFAULT 0;
