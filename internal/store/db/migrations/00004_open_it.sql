-- +goose Up

-- What everyone may do without a key.
alter table environment add column open jsonb not null default '[]';

-- What preview links are signed with.
alter table environment add column secret bytea not null default sha256((gen_random_uuid()::text || gen_random_uuid()::text)::bytea);

alter table access_key add column by text not null default '', add column per_minute integer not null default 0, add column revoked timestamptz,
    add column former bytea, add column former_until timestamptz;
create index access_key_name on access_key (environment, name);

-- What a key was last used for, and how often. Nodes add to it every few seconds.
create table key_use (
    environment text        not null,
    key         text        not null,
    requests    bigint      not null,
    hits        bigint      not null,
    used        timestamptz not null,
    address     text        not null,
    agent       text        not null,
    primary key (environment, key),
    foreign key (environment, key) references access_key on delete cascade
);

create table account (
    environment text        not null references environment,
    id          text        not null,
    email       text        not null, -- in small letters
    name        text        not null,
    role        text        not null,
    password    text        not null default '', -- argon2id, or empty: none was set yet
    created     timestamptz not null default clock_timestamp(),
    by          text        not null,
    disabled    timestamptz,
    signed_in   timestamptz,
    primary key (environment, id),
    unique (environment, email)
);

-- Who is signed in; the hash is that of the cookie.
create table session (
    environment text        not null,
    hash        bytea       not null,
    account     text        not null,
    created     timestamptz not null default clock_timestamp(),
    seen        timestamptz not null default clock_timestamp(),
    expires     timestamptz not null,
    address     text        not null,
    agent       text        not null,
    primary key (environment, hash),
    foreign key (environment, account) references account on delete cascade
);
create index session_account on session (environment, account);

-- Links that let somebody choose a password, once. Without an account the link
-- makes the first one.
create table invitation (
    environment text        not null references environment,
    hash        bytea       not null,
    account     text,
    expires     timestamptz not null,
    primary key (environment, hash),
    foreign key (environment, account) references account on delete cascade
);

-- Who did what. Nothing in it is ever written again.
create table audit (
    environment text        not null references environment,
    id          bigint      not null generated always as identity,
    at          timestamptz not null default clock_timestamp(),
    who         text        not null,
    kind        text        not null, -- account, key, token, or what did it by itself
    address     text        not null default '',
    what        text        not null, -- as on the command line: entry publish, key create
    subject     text        not null default '',
    before      jsonb,
    after       jsonb,
    primary key (environment, id)
);
create index audit_subject on audit (environment, subject, id);
create index audit_who on audit (environment, who, id);

-- Entries handed in from outside are shown to no reader, not even in preview,
-- before they were published once.
alter table entry add column withheld boolean not null default false;

-- +goose Down
alter table entry drop column withheld;
drop table audit, invitation, session, account, key_use;
alter table access_key drop column by, drop column per_minute, drop column revoked, drop column former, drop column former_until;
drop index if exists access_key_name;
alter table environment drop column open, drop column secret;
