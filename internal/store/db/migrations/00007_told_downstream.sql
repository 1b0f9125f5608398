-- +goose Up

-- Caches downstream, and how far each has been told of what changed.
create table downstream (
    environment text        not null references environment,
    name        text        not null,
    sequence    bigint      not null,
    free_at     timestamptz not null default clock_timestamp(), -- when the next call may be made
    told        timestamptz,                                    -- when the last one was taken
    calls       bigint      not null default 0,
    attempts    integer     not null default 0,                 -- that failed since
    failed      text        not null default '',
    primary key (environment, name)
);

-- The addresses whose answers expired on each node, until everybody downstream knows.
create table expired_address (
    environment text   not null references environment,
    sequence    bigint not null,
    node        uuid   not null,
    addresses   text[] not null,
    primary key (environment, sequence, node)
);

-- +goose Down
drop table expired_address, downstream;
