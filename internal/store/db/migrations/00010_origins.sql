-- +goose Up
-- Items of origins that could not be taken over, and why.
create table untaken (
    environment text        not null,
    origin      text        not null,
    type        text        not null,
    key         text        not null,
    entry       text        not null, -- the id that it would have
    slug        text        not null default '',
    reason      text        not null,
    since       timestamptz not null default clock_timestamp(),
    seen        timestamptz not null default clock_timestamp(),
    primary key (environment, origin, type, key)
);

-- Entries that came from another origin before: the id that is made of the item's key
-- stands for theirs.
create table adopted (
    environment text not null,
    made        text not null,
    entry       text not null,
    primary key (environment, made),
    foreign key (environment, entry) references entry on delete cascade
);

-- +goose Down
drop table adopted;
drop table untaken;
