-- How much of this machine may be used (NULL: as the program was started), and the helpers of a scheduler as the worker saw them last.
CREATE TABLE machine (
    threads INTEGER,
    memory REAL,
    nice INTEGER,
    scheduler TEXT NOT NULL DEFAULT '',
    says TEXT NOT NULL DEFAULT '',
    helped_threads INTEGER NOT NULL DEFAULT 0
);
INSERT INTO machine DEFAULT VALUES;
CREATE TABLE helpers (
    address TEXT PRIMARY KEY,
    name TEXT NOT NULL,
    threads INTEGER NOT NULL,
    here INTEGER NOT NULL,
    problem TEXT NOT NULL,
    does TEXT NOT NULL,
    parts INTEGER NOT NULL,
    lost INTEGER NOT NULL,
    speed REAL NOT NULL,
    memory INTEGER NOT NULL,
    most_memory INTEGER NOT NULL,
    load REAL NOT NULL
);
-- Threads that a job's guess was made for; and seconds of all processors that a job has taken.
ALTER TABLE jobs ADD COLUMN guess_threads INTEGER;
ALTER TABLE jobs ADD COLUMN processor_seconds REAL NOT NULL DEFAULT 0;
