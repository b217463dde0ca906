-- What an environment had before a rollout that is to be undone when it fails; JSON. Kept from the first time
-- that the rollout is carried out, also when the service is started again in the middle of it.
CREATE TABLE before_rollouts (
    run INTEGER NOT NULL REFERENCES runs (id),
    job TEXT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (run, job)
) STRICT, WITHOUT ROWID;
