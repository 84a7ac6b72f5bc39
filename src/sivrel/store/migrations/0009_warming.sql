-- What the worker compiles behind its other work, in words; empty when everything is compiled.
ALTER TABLE worker ADD COLUMN warming TEXT NOT NULL DEFAULT '';
