-- What a person signs in with beside tokens: a hash of it (Argon2id, in the form of PHC strings).
ALTER TABLE users ADD COLUMN password TEXT;
