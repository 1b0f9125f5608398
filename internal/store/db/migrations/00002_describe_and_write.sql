-- +goose Up

-- What readers get is no longer one revision when locales are published apart.
alter table entry add column live jsonb, add column behind boolean not null default false,
    add column review text not null default '', add column retired timestamptz;
update entry e set live = r.fields, behind = e.published_revision <> e.revision
    from revision r where r.environment = e.environment and r.entry = e.id and r.number = e.published_revision;

alter table revision add column message text not null default '';

-- Slugs and paths may be swapped within one statement. Links are field/entry.
alter table document add column path text collate "C", add column links text[] not null default '{}';
update document set path = about ->> 'path';
-- Documents are found by entry alone when the entry is written.
alter table document drop constraint document_pkey, add primary key (environment, entry, edition, locale);
drop index document_slug;
alter table document add constraint document_slug unique (environment, edition, locale, type, slug) deferrable initially immediate,
    add constraint document_path unique (environment, edition, locale, path) deferrable initially immediate;
create index document_links on document using gin (links) with (fastupdate = off) where links <> '{}';

-- The values of unique fields, drafts included.
create table taken (
    environment text not null,
    type        text not null,
    field       text not null,
    locale      text not null, -- empty when the field is not translated
    value       text not null,
    entry       text not null,
    constraint taken_value unique (environment, type, field, locale, value) deferrable initially immediate,
    foreign key (environment, entry) references entry on delete cascade
);
create index taken_entry on taken (environment, entry);

-- Where published entries lived before.
create table former_path (
    environment text        not null,
    locale      text        not null,
    path        text        collate "C" not null,
    entry       text        not null,
    since       timestamptz not null default clock_timestamp(),
    primary key (environment, locale, path),
    foreign key (environment, entry) references entry on delete cascade
);

create table schedule (
    environment text        not null,
    id          uuid        not null,
    entry       text        not null,
    action      text        not null, -- publish, unpublish
    locales     text[],               -- null: all
    revision    integer     not null, -- that is published
    at          timestamptz not null,
    zone        text        not null,
    by          text        not null,
    created     timestamptz not null default clock_timestamp(),
    state       text        not null, -- pending, done, failed, cancelled
    finished    timestamptz,
    detail      text        not null default '',
    primary key (environment, id),
    foreign key (environment, entry) references entry on delete cascade
);
create index schedule_pending on schedule (environment, at) where state = 'pending';
create index schedule_entry on schedule (environment, entry, at);

-- What was said of revisions before they were published.
create table review (
    environment text        not null,
    entry       text        not null,
    revision    integer     not null,
    at          timestamptz not null,
    by          text        not null,
    what        text        not null, -- submitted, approved, returned
    remark      text        not null default '',
    foreign key (environment, entry) references entry on delete cascade
);
create index review_entry on review (environment, entry, at desc);

-- Who has which entry open; worth nothing after a crash.
create unlogged table presence (
    environment text        not null,
    entry       text        not null,
    session     text        not null,
    who         text        not null,
    seen        timestamptz not null default clock_timestamp(),
    primary key (environment, entry, session)
);

-- +goose Down
drop table presence, review, schedule, former_path, taken;
alter table document drop constraint document_pkey, add primary key (environment, edition, locale, entry);
alter table document drop constraint document_slug, drop constraint document_path, drop column path, drop column links;
create unique index document_slug on document (environment, edition, locale, type, slug) where slug is not null;
alter table revision drop column message;
alter table entry drop column live, drop column behind, drop column review, drop column retired;
