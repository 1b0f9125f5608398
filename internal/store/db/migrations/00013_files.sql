-- +goose Up
-- The bytes that are kept of files, each once, whatever refers to them.
create table blob (
    environment text        not null,
    hash        text        not null, -- SHA-256, hexadecimal
    bytes       bigint      not null,
    facts       jsonb       not null, -- what the bytes tell, as the fields of files have it
    made        timestamptz not null default clock_timestamp(),
    seen        timestamptz not null default clock_timestamp(), -- when somebody last uploaded them or let go of them
    primary key (environment, hash)
);
create index blob_seen on blob (environment, seen);

-- Pictures made of others. One that is being made is claimed for a while.
create table rendition (
    environment text        not null,
    hash        text        not null,
    name        text        not null, -- region/size/rotation/quality.format of IIIF, with the quality of compression
    media_type  text        not null default '',
    bytes       bigint      not null default 0,
    made        timestamptz,
    used        timestamptz not null default clock_timestamp(),
    claimed     timestamptz, -- until when somebody makes it
    problem     text        not null default '',
    primary key (environment, hash, name)
);
create index rendition_used on rendition (environment, used);

-- Where bytes of outside files were fetched from.
create table mirrored (
    environment text        not null,
    address     text        not null,
    entry       text        not null,
    etag        text        not null default '',
    modified    text        not null default '',
    checked     timestamptz not null default clock_timestamp(),
    primary key (environment, address)
);

-- Files that no reader can see: what is published with whoever shows them.
create index entry_unseen_files on entry (environment, id) where type = 'file' and published_revision = 0;

-- Which files have these bytes.
create index document_file_hash on document (environment, (fields ->> 'hash')) where type = 'file';
