-- Shots, proofs with lineage, jobs, and what the worker is doing.
CREATE TABLE shots (
    id INTEGER PRIMARY KEY,
    slug TEXT NOT NULL UNIQUE,
    title TEXT NOT NULL,
    about TEXT NOT NULL DEFAULT '',
    path TEXT NOT NULL,
    confined INTEGER NOT NULL DEFAULT 0,
    cameras TEXT NOT NULL DEFAULT '[]',
    triangles INTEGER NOT NULL DEFAULT 0,
    notes TEXT NOT NULL DEFAULT '[]',
    created_at TEXT NOT NULL,
    opened_at TEXT
);
CREATE TABLE recipes (
    id INTEGER PRIMARY KEY,
    digest TEXT NOT NULL UNIQUE,
    body TEXT NOT NULL
);
CREATE TABLE proofs (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    parent_id INTEGER REFERENCES proofs(id) ON DELETE SET NULL,
    recipe_id INTEGER NOT NULL REFERENCES recipes(id),
    camera TEXT NOT NULL,
    width INTEGER NOT NULL,
    height INTEGER NOT NULL,
    region TEXT,
    seed INTEGER NOT NULL,
    note TEXT NOT NULL DEFAULT '',
    created_at TEXT NOT NULL,
    picture TEXT,
    seconds REAL,
    noise REAL,
    light REAL,
    dropped INTEGER,
    made_on TEXT NOT NULL DEFAULT ''
);
CREATE INDEX proofs_of_shot ON proofs(shot_id, id);
CREATE TABLE jobs (
    id INTEGER PRIMARY KEY,
    proof_id INTEGER NOT NULL UNIQUE REFERENCES proofs(id) ON DELETE CASCADE,
    state TEXT NOT NULL CHECK (state IN ('waiting', 'rendering', 'done', 'cancelled', 'failed')),
    cancel INTEGER NOT NULL DEFAULT 0,
    tiles_done INTEGER NOT NULL DEFAULT 0,
    tiles_total INTEGER NOT NULL DEFAULT 0,
    seconds REAL NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT ''
);
CREATE INDEX jobs_by_state ON jobs(state, id);
CREATE TABLE worker (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    phase TEXT NOT NULL,
    done INTEGER NOT NULL DEFAULT 0,
    total INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT ''
);
INSERT INTO worker (id, phase) VALUES (1, 'absent');
