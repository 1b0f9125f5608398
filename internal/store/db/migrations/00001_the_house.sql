-- +goose Up
create table environment (
    name  text primary key,
    model jsonb not null
);

-- The head of the change log lives alone, so that writers meet here last and
-- only for as long as it takes to assign numbers. The model's version is beside
-- it, for both are the first thing that every read asks for.
create table head (
    environment text primary key references environment,
    sequence      bigint      not null,
    commit        bigint      not null,
    at            timestamptz not null,
    model_version bigint      not null,
    -- Both at once, for reads that bring them along as one more column.
    stamp         text        not null generated always as (sequence::text || ' ' || model_version::text) stored
) with (fillfactor = 10);

create table change (
    environment text        not null,
    sequence    bigint      not null,
    commit      bigint      not null,
    id          uuid        not null default gen_random_uuid(),
    at          timestamptz not null,
    kind        text        not null,
    edition     text        not null default '',
    entry       text        not null default '',
    type        text        not null default '',
    what        text        not null default '',
    fields      jsonb,
    before      jsonb,
    after       jsonb,
    cause       jsonb       not null,
    primary key (environment, sequence)
);
create index change_entry on change (environment, entry, sequence);
create index change_event on change (environment, (cause ->> 'event')) where cause ->> 'event' is not null;

create table entry (
    environment        text        not null references environment,
    id                 text        not null,
    type               text        not null,
    origin             text        not null,
    origin_key         text        not null default '',
    origin_version     text        not null default '',
    revision           integer     not null default 0,
    published_revision integer     not null default 0,
    first_published    timestamptz,
    published          timestamptz,
    updated            timestamptz not null,
    title              text        not null default '',
    primary key (environment, id)
);
create index entry_type on entry (environment, type, updated desc, id);
create index entry_origin on entry (environment, origin, type);

create table revision (
    environment text        not null,
    entry       text        not null,
    number      integer     not null,
    at          timestamptz not null,
    by          text        not null,
    fields      jsonb       not null,
    primary key (environment, entry, number),
    foreign key (environment, entry) references entry on delete cascade
);

-- What readers get: one row per edition and locale, ready to be served.
create table document (
    environment     text        not null,
    edition         text        not null,
    locale          text        not null,
    entry           text        collate "C" not null,
    type            text        not null,
    slug            text        collate "C",
    published       timestamptz,
    first_published timestamptz,
    updated         timestamptz not null,
    about           jsonb       not null,
    fields          jsonb       not null,
    primary key (environment, edition, locale, entry),
    foreign key (environment, entry) references entry on delete cascade
);
create unique index document_slug on document (environment, edition, locale, type, slug) where slug is not null;
create index document_first on document (environment, edition, locale, type, first_published desc nulls last, entry);
create index document_recent on document (environment, edition, locale, type, published desc nulls last, entry);

create table access_key (
    environment text        not null references environment,
    id          text        not null,
    name        text        not null,
    hash        bytea       not null unique,
    grants      jsonb       not null,
    site        text        not null default '',
    created     timestamptz not null default clock_timestamp(),
    expires     timestamptz,
    primary key (environment, id)
);

-- Announcements of origins, as they arrived.
create table event (
    environment  text        not null references environment,
    id           uuid        not null,
    origin       text        not null,
    message_id   text        not null,
    content_type text        not null,
    body         bytea       not null,
    received     timestamptz not null default clock_timestamp(),
    state        text        not null, -- waiting, done, failed, refused
    detail       text        not null default '',
    decoded      jsonb,
    entry        text        not null default '',
    sequence     bigint, -- of the last change that it made; null when none
    stored       timestamptz,
    expired      timestamptz,
    attempts     integer     not null default 0,
    primary key (environment, id)
);
create unique index event_message on event (environment, origin, message_id) where state <> 'refused';
create index event_received on event (environment, received desc);
create index event_entry on event (environment, entry, received desc) where entry <> '';

create table build (
    environment   text        not null references environment,
    id            uuid        not null,
    site          text        not null,
    number        bigint      not null,
    state         text        not null,
    sequence      bigint      not null,
    causes        jsonb       not null,
    immediately   boolean     not null default false,
    first_request timestamptz not null,
    last_request  timestamptz not null,
    not_before    timestamptz,
    attempts      integer     not null default 0,
    called        timestamptz,
    started       timestamptz,
    finished      timestamptz,
    error         text        not null default '',
    failures      integer     not null default 0,
    primary key (environment, id),
    unique (environment, site, number)
);
create unique index build_waiting on build (environment, site) where state = 'waiting';
create unique index build_running on build (environment, site) where state = 'running';
create index build_recent on build (environment, first_request desc);

create table rule_run (
    environment text        not null,
    sequence    bigint      not null,
    rule        text        not null,
    at          timestamptz not null default clock_timestamp(),
    fired       boolean     not null,
    detail      text        not null,
    primary key (environment, sequence, rule)
);

-- How far each background reader of the change log has come.
create table position (
    environment text   not null references environment,
    name        text   not null,
    sequence    bigint not null,
    primary key (environment, name)
);

-- +goose Down
drop table position, rule_run, build, event, access_key, document, revision, entry, change, head, environment;
