-- +goose Up

-- What the pages of a site were made of. All that is written of one site is written under the
-- lock of its row here.
create table page_ledger (
    environment   text        not null references environment,
    site          text        not null,
    -- position is the sequence as of which the marks of reads are known.
    position      bigint      not null default 0,
    -- batch counts what was registered.
    batch         bigint      not null default 0,
    -- judged is the last batch whose pages were judged.
    judged        bigint      not null default 0,
    claimed_by    uuid,
    claimed_until timestamptz not null default '-infinity',
    -- lost is since when registrations may be missing, so that the site is stale as a whole.
    lost          bigint,
    lost_at       timestamptz,
    -- full says that it is so large that what is registered is not stored.
    "full"        boolean     not null default false,
    primary key (environment, site)
);

-- What a site reads, each request once.
create table page_read (
    environment text        not null,
    site        text        not null,
    id          bigint      not null generated always as identity,
    digest      bytea       not null,
    request     text        not null,
    -- rights are the grants by which the answer was narrowed; '' if it was not.
    rights      text        not null default '',
    -- mark names the bytes that it gives, null for not known yet; since and causes are of the
    -- change by which it does.
    mark        text,
    since       bigint      not null default 0,
    causes      jsonb       not null default '[]',
    primary key (environment, site, id),
    unique (environment, site, digest),
    foreign key (environment, site) references page_ledger on delete cascade
);

create table page (
    environment text        not null,
    site        text        not null,
    path        text        not null,
    batch       bigint      not null,
    registered  timestamptz not null default clock_timestamp(),
    -- renders are the two latest, of a page that is rendered on demand.
    renders     text[]      not null default '{}',
    stale_since bigint,
    stale_at    timestamptz,
    causes      jsonb       not null default '[]',
    gone        boolean     not null default false,
    -- changed is the last change by which it is stale, told what the site was last told of.
    changed     bigint      not null default 0,
    told        bigint      not null default 0,
    attempts    integer     not null default 0,
    not_before  timestamptz,
    failed      text        not null default '',
    primary key (environment, site, path),
    foreign key (environment, site) references page_ledger on delete cascade
);
create index page_batch on page (environment, site, batch);
create index page_stale on page (environment, site, stale_since) where stale_since is not null;

-- What a page got of a read, in a build or a render.
create table page_use (
    environment text   not null,
    site        text   not null,
    page        text   not null,
    run         text   not null,
    render      boolean not null,
    read        bigint not null,
    mark        text   not null,
    sequence    bigint not null,
    primary key (environment, site, page, run, read),
    foreign key (environment, site, read) references page_read (environment, site, id) on delete cascade,
    foreign key (environment, site, page) references page (environment, site, path) on delete cascade
);
create index page_use_read on page_use (environment, site, read);
create index page_use_run on page_use (environment, site, run);
create index page_use_sequence on page_use (environment, site, sequence);

-- Which nodes may hold registrations that are not stored yet.
create table page_buffer (
    environment text        not null,
    site        text        not null,
    node        uuid        not null,
    since       timestamptz not null default clock_timestamp(),
    primary key (environment, site, node)
);

alter table build add column pages text[] not null default '{*}';
alter table build add column promoted boolean not null default true;
create index build_unpromoted on build (environment, site) where not promoted;

-- +goose Down

drop index build_unpromoted;
alter table build drop column promoted, drop column pages;
drop table page_buffer, page_use, page, page_read, page_ledger;
