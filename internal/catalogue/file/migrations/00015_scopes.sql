-- +goose Up
-- What technicians may do, and of which machines they know. Those that there were have all rights and the whole site.
ALTER TABLE technicians ADD COLUMN rights TEXT NOT NULL DEFAULT '["find","open","bring-back","survey","arrange","keep"]';
ALTER TABLE technicians ADD COLUMN whole INTEGER NOT NULL DEFAULT 1;
CREATE TABLE technician_machines (
    technician_id INTEGER NOT NULL REFERENCES technicians ON DELETE CASCADE,
    machine_id    INTEGER NOT NULL REFERENCES machines ON DELETE CASCADE,
    PRIMARY KEY (technician_id, machine_id)
) WITHOUT ROWID;

-- Of which machines jobs, receipts and cases speak; NULL for one that is gone. A later one of its name is another.
CREATE TABLE job_machines (
    job_id     INTEGER NOT NULL REFERENCES jobs ON DELETE CASCADE,
    machine_id INTEGER REFERENCES machines ON DELETE SET NULL
);
CREATE INDEX job_machines_by_job ON job_machines (job_id);
INSERT INTO job_machines (job_id, machine_id)
  SELECT DISTINCT j.id, s.machine_id FROM jobs j CROSS JOIN json_each(j.request, '$.sources') e LEFT JOIN sources s ON s.id = e.value
  WHERE j.kind = 'survey';
CREATE TABLE receipt_machines (
    receipt_id INTEGER NOT NULL REFERENCES receipts ON DELETE CASCADE,
    machine_id INTEGER REFERENCES machines ON DELETE SET NULL
);
CREATE INDEX receipt_machines_by_receipt ON receipt_machines (receipt_id);
ALTER TABLE cases ADD COLUMN machine_id INTEGER REFERENCES machines ON DELETE SET NULL;
UPDATE cases SET machine_id = (SELECT id FROM machines m WHERE m.name = machine);
