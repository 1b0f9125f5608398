-- +goose Up
-- What is late is tried again, and says why; a build tells what was tried.
alter table schedule add column tries integer not null default 0, add column next_try timestamptz;
alter table build add column log jsonb not null default '[]', add column counts jsonb not null default '{}';

-- What writes with an Idempotency-Key came to, so that the same write is not made twice.
create table written (
    environment text        not null,
    key         text        not null, -- with whose it is
    request     bytea       not null, -- digest of the request
    at          timestamptz not null default clock_timestamp(),
    status      integer,              -- null: under way
    body        bytea,
    primary key (environment, key)
);
create index written_at on written (environment, at);

-- +goose Down
drop table written;
alter table build drop column log, drop column counts;
alter table schedule drop column tries, drop column next_try;
