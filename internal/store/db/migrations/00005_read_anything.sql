-- +goose Up

-- GraphQL documents that readers may name instead of sending them.
create table trusted_document (
    environment text        not null references environment,
    id          text        not null, -- sha256:, and the hash of the text in hexadecimal digits
    name        text        not null,
    text        text        not null,
    added       timestamptz not null default clock_timestamp(),
    by          text        not null,
    primary key (environment, id)
);

-- Reads that somebody has kept, to be opened again by whoever has the link.
create table saved_read (
    environment text        not null references environment,
    id          text        not null,
    name        text        not null,
    read        jsonb       not null,
    saved       timestamptz not null default clock_timestamp(),
    by          text        not null,
    primary key (environment, id)
);
create unique index saved_read_name on saved_read (environment, name);
