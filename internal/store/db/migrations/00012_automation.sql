-- +goose Up
-- Configuration that is managed while the service runs: rules, sites, origins and the like.
create table setting (
    environment text        not null,
    kind        text        not null,
    name        text        not null,
    version     bigint      not null,
    spec        json        not null, -- in the order in which it is written
    by          text        not null,
    at          timestamptz not null default clock_timestamp(),
    place       bigint      generated always as identity, -- the order of making
    primary key (environment, kind, name)
);

-- Every version of a setting, the present one too; spec is null where it was removed.
create table setting_version (
    environment text        not null,
    kind        text        not null,
    name        text        not null,
    version     bigint      not null,
    spec        json,
    by          text        not null,
    at          timestamptz not null default clock_timestamp(),
    primary key (environment, kind, name, version)
);

-- Values that are kept encrypted, for calls in and out.
create table secret (
    environment text        not null,
    name        text        not null,
    version     bigint      not null default 1,
    sealed      bytea       not null,
    by          text        not null,
    at          timestamptz not null default clock_timestamp(),
    primary key (environment, name)
);

-- What has happened that is no change of content, for the rules.
create table signal (
    environment text        not null,
    number      bigint      generated always as identity,
    event       text        not null,
    subject     text        not null default '',
    data        jsonb       not null, -- a rule.Occurrence
    at          timestamptz not null default clock_timestamp(),
    taken       boolean     not null default false, -- the rules have looked at it
    primary key (environment, number)
);
create index signal_latest on signal (environment, event, subject, at);
create index signal_waiting on signal (environment, number) where not taken;

-- What each rule made of each event. What is in rule_run, which
-- older nodes still write, is copied. A run of the clock or of a signal has no sequence.
create table run (
    environment text        not null,
    id          bigint      generated always as identity,
    rule        text        not null,
    version     bigint      not null,
    source      text        not null, -- unique for what set it off: c17, s4, t1790000000
    sequence    bigint      not null default 0,
    event       text        not null,
    entry       text        not null default '',
    type        text        not null default '',
    at          timestamptz not null default clock_timestamp(),
    fired       boolean     not null,
    reason      text        not null default '',
    state       text        not null, -- not fired, running, done, failed
    occurrence  jsonb,                -- of those that fired
    steps       jsonb,                -- likewise: the steps of the rule at that time
    primary key (environment, id)
);
create unique index run_once on run (environment, rule, source);
create index run_latest on run (environment, rule, fired, id desc);
create index run_sequence on run (environment, sequence) where sequence > 0;
create index run_entry on run (environment, entry, id desc) where entry <> '';
create index run_age on run (environment, at);

insert into run (environment, rule, version, source, sequence, event, at, fired, reason, state)
    select environment, rule, 0, 'c' || sequence, sequence, '', at, fired, detail,
        case when fired then 'done' else 'not fired' end
    from rule_run order by at;
truncate rule_run;

-- The steps of the runs that fired: a durable queue, a job each.
create table run_step (
    environment text        not null,
    run         bigint      not null,
    step        int         not null,
    kind        text        not null,
    state       text        not null, -- pending, waiting, running, done, failed, skipped
    attempts    int         not null default 0,
    due         timestamptz not null default clock_timestamp(),
    started     timestamptz,
    finished    timestamptz,
    result      text        not null default '',
    error       text        not null default '',
    node        text        not null default '', -- that does it, while it is running
    primary key (environment, run, step),
    foreign key (environment, run) references run (environment, id) on delete cascade
);
create index run_step_due on run_step (environment, due) where state in ('waiting', 'running');

-- When each rule fires by itself next.
create table rule_clock (
    environment text        not null,
    rule        text        not null,
    version     bigint      not null,
    next        timestamptz not null,
    primary key (environment, rule)
);

-- What accounts are told by mail.
create table notification (
    environment text        not null,
    id          bigint      generated always as identity,
    account     text        not null, -- its id
    event       text        not null,
    entry       text        not null default '',
    subject     text        not null,
    text        text        not null,
    at          timestamptz not null default clock_timestamp(),
    due         timestamptz not null default clock_timestamp(),
    daily       boolean     not null,
    state       text        not null default 'waiting', -- waiting, sent, failed
    attempts    int         not null default 0,
    error       text        not null default '',
    sent        timestamptz,
    primary key (environment, id)
);
create index notification_due on notification (environment, due) where state = 'waiting';
create index notification_of on notification (environment, account, id desc);

alter table account add column notify jsonb not null default '{}';

-- Of which types each site has read content.
create table site_read (
    environment text        not null,
    site        text        not null,
    type        text        not null,
    first       timestamptz not null default clock_timestamp(),
    last        timestamptz not null default clock_timestamp(),
    primary key (environment, site, type)
);

alter table build add column link text not null default '';

-- +goose Down
alter table build drop column link;
drop table site_read;
alter table account drop column notify;
drop table notification, rule_clock, run_step, run, signal, secret, setting_version, setting;
