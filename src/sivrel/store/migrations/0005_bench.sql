-- The bench: names and stars, deleted proofs, the order of the queue, pins, named recipes, kept cameras, renders of the moment.
ALTER TABLE proofs ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE proofs ADD COLUMN starred INTEGER NOT NULL DEFAULT 0;
ALTER TABLE proofs ADD COLUMN deleted_at TEXT;
ALTER TABLE proofs ADD COLUMN focus TEXT;
ALTER TABLE jobs ADD COLUMN place REAL;
ALTER TABLE jobs ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN gives_way INTEGER NOT NULL DEFAULT 0;
ALTER TABLE jobs ADD COLUMN guess REAL;
ALTER TABLE jobs ADD COLUMN pixel_seconds REAL NOT NULL DEFAULT 0;
ALTER TABLE worker ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
UPDATE jobs SET place = id;
CREATE TABLE pins (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    name TEXT NOT NULL,
    box TEXT NOT NULL,
    view TEXT NOT NULL,
    created_at TEXT NOT NULL
);
CREATE TABLE readings (
    pin_id INTEGER NOT NULL REFERENCES pins(id) ON DELETE CASCADE,
    proof_id INTEGER NOT NULL REFERENCES proofs(id) ON DELETE CASCADE,
    body TEXT,
    PRIMARY KEY (pin_id, proof_id)
);
CREATE TABLE named_recipes (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    reason TEXT NOT NULL DEFAULT '',
    recipe_id INTEGER NOT NULL REFERENCES recipes(id),
    picture TEXT,
    is_default INTEGER NOT NULL DEFAULT 0,
    created_at TEXT NOT NULL
);
CREATE TABLE cameras (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    name TEXT NOT NULL,
    edits TEXT NOT NULL,
    created_at TEXT NOT NULL,
    UNIQUE (shot_id, name)
);
CREATE TABLE moments (
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    client TEXT NOT NULL UNIQUE,
    shot_id INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    body TEXT NOT NULL,
    taken INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    asked_at TEXT NOT NULL
);
