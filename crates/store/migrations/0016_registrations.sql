-- What registries say of registered domains, and when they were asked; nothing, where they did
-- not say anything that could be read.
CREATE TABLE registrations (
    domain text COLLATE "C" PRIMARY KEY,
    told jsonb,
    asked_at timestamptz NOT NULL
);
CREATE INDEX registrations_age ON registrations (asked_at);
