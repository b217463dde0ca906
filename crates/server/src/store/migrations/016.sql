-- The token that was put in the place of another. Whoever has the other makes no further ones with it.
ALTER TABLE tokens ADD COLUMN heir INTEGER;
