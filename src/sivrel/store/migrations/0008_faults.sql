-- Faults: how often the worker died over a job or a question without getting on, which questions are answered wholly, and an index for readings by proof.
ALTER TABLE jobs ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE questions ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE questions ADD COLUMN done INTEGER NOT NULL DEFAULT 0;
UPDATE questions SET done = 1 WHERE problem <> '' OR (answer IS NOT NULL AND coalesce(json_extract(answer, '$.done'), 1) <> 0);
CREATE INDEX questions_waiting ON questions(taken, id);
CREATE INDEX readings_of_proof ON readings(proof_id);
CREATE INDEX proofs_deleted ON proofs(shot_id, deleted_at);
