-- +goose Up

-- What is asked for most, for nodes that start.
create table hot_request (
    environment text        not null references environment,
    request     text        not null,
    hits        integer     not null,
    noted       timestamptz not null,
    primary key (environment, request)
);

-- The nodes, and how far each has applied the change log. A node serves from its
-- cache only for two seconds after it was seen here.
create table node (
    environment text        not null references environment,
    id          uuid        not null,
    name        text        not null,
    started     timestamptz not null default clock_timestamp(),
    seen        timestamptz not null default clock_timestamp(),
    applied     bigint      not null,
    primary key (environment, id)
) with (fillfactor = 50);
