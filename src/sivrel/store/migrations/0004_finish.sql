-- How the pictures of a shot are finished.
ALTER TABLE shots ADD COLUMN finish TEXT NOT NULL DEFAULT '{}';
