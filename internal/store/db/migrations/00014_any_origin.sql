-- +goose Up

-- Pings of an origin that come before the first of them is begun are one event; calls counts them.
alter table event add column begun timestamptz;
alter table event add column calls integer not null default 1;
create index event_pings on event (environment, origin) where state = 'waiting' and begun is null;
create index event_unknown on event (environment, origin, received desc) where state = 'unknown';

-- Until when the calls of a hook are kept without acting on them.
create table capture (
    environment text        not null references environment,
    origin      text        not null,
    until       timestamptz not null,
    by          text        not null,
    primary key (environment, origin)
);

-- Those that were: bounded per origin, and kept for a day.
create table captured (
    environment text        not null references environment,
    id          uuid        not null,
    origin      text        not null,
    at          timestamptz not null default clock_timestamp(),
    method      text        not null,
    address     text        not null,
    header      jsonb       not null, -- without what proves
    body        bytea       not null,
    primary key (environment, id)
);
create index captured_origin on captured (environment, origin, at desc);

-- The items of origins that write them here.
create table pushed (
    environment text        not null references environment,
    origin      text        not null,
    kind        text        not null,
    key         text        not null,
    item        jsonb       not null,
    primary key (environment, origin, kind, key)
);

-- The last comparison with each origin, by any node.
create table comparison (
    environment text        not null references environment,
    origin      text        not null,
    at          timestamptz not null default clock_timestamp(),
    node        text        not null,
    outcome     jsonb       not null,
    primary key (environment, origin)
);

-- Subscriptions of feeds with their hubs (WebSub).
create table subscription (
    environment text        not null references environment,
    origin      text        not null,
    hub         text        not null,
    topic       text        not null,
    secret      text        not null, -- signs what the hub sends
    state       text        not null, -- asked, active, refused
    asked       timestamptz not null default clock_timestamp(),
    until       timestamptz,
    detail      text        not null default '',
    primary key (environment, origin)
);

-- +goose Down
drop table subscription;
drop table comparison;
drop table pushed;
drop table captured;
drop table capture;
drop index event_unknown;
drop index event_pings;
alter table event drop column calls;
alter table event drop column begun;
