-- +goose Up

-- When visitors got what changed: pages that became stale by a change, of sites that are probed.
create table page_live (
    environment text        not null,
    site        text        not null,
    path        text        not null,
    sequence    bigint      not null,
    commit      bigint      not null,
    -- gone says that what the page showed is not there any more.
    gone        boolean     not null default false,
    -- changed is when the change was stored, seen when the page was found to show it.
    changed     timestamptz not null,
    seen        timestamptz,
    -- due is when the page is looked at next; null once that is given up.
    due         timestamptz default clock_timestamp(),
    tries       integer     not null default 0,
    late        boolean     not null default false,
    -- found is what the page had the last time, if it did not show the change.
    found       text        not null default '',
    primary key (environment, site, path, sequence)
);
create index page_live_due on page_live (environment, site, due) where seen is null;
create index page_live_changed on page_live (environment, site, changed);
create index page_live_commit on page_live (environment, commit);

-- +goose Down

drop table page_live;
