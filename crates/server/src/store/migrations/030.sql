-- Whether it was set by somebody who may for some projects only, for which it then is; such may set it again.
ALTER TABLE environments ADD COLUMN is_own INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runners ADD COLUMN is_own INTEGER NOT NULL DEFAULT 0;
ALTER TABLE registry_accounts ADD COLUMN is_own INTEGER NOT NULL DEFAULT 0;
