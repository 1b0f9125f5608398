-- +goose Up
-- Which field of an entry somebody edits.
alter table presence add column field text not null default '';

-- What each node did, minute by minute.
create table sample (
    environment text        not null,
    node        text        not null,
    minute      timestamptz not null,
    hits        bigint      not null,
    misses      bigint      not null,
    expired     bigint      not null,
    held        bigint      not null,
    bytes       bigint      not null,
    p50         float8      not null, -- of reads, in milliseconds; 0: there were none
    p99         float8      not null,
    primary key (environment, minute, node)
) with (fillfactor = 70);

-- Lists that somebody has kept under a name: a page and what it is narrowed by.
create table saved_view (
    environment text        not null,
    id          text        not null,
    page        text        not null,
    name        text        not null,
    query       text        not null,
    by          text        not null,
    saved       timestamptz not null default clock_timestamp(),
    primary key (environment, id),
    unique (environment, page, name)
);

-- +goose Down
drop table saved_view;
drop table sample;
alter table presence drop column field;
