-- Who is asked for a secret whenever a job names it, where it is kept elsewhere: a provider, by name. Its value is then
-- empty.
ALTER TABLE secrets ADD COLUMN provider TEXT;
ALTER TABLE shared_secrets ADD COLUMN provider TEXT;
