-- +goose Up

-- Readers of one edition are told of its changes without looking at those of the other.
create index change_edition on change (environment, edition, sequence);

-- Sessions are listed and ended by an id that is no secret. proved is when the password
-- was last given.
alter table session add column id text not null default gen_random_uuid()::text, add column proved timestamptz not null default clock_timestamp();

-- Preview links: what they reach, who made them, and what their maker could read then.
create table preview_link (
    environment text        not null references environment,
    id          text        not null,
    entry       text        not null,
    locale      text        not null,
    backs       boolean     not null, -- whether it may read what refers to the entry
    maker_kind  text        not null, -- key, account or token
    maker       text        not null, -- id of the key or account
    by          text        not null,
    grants      jsonb       not null,
    created     timestamptz not null default clock_timestamp(),
    expires     timestamptz not null,
    revoked     timestamptz,
    used        timestamptz,
    primary key (environment, id),
    foreign key (environment, entry) references entry on delete cascade
);
create index preview_link_expires on preview_link (environment, expires);

-- Each line of the audit log carries the digest of the line before.
alter table audit add column previous bytea, add column hash bytea;

-- +goose StatementBegin
create function audit_digest(previous bytea, a audit) returns bytea language sql stable as $$
    select sha256(previous || convert_to(jsonb_build_array(a.environment, a.id, to_char(a.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'),
        a.who, a.kind, a.address, a.what, a.subject, a.before, a.after)::text, 'UTF8'))
$$;
-- +goose StatementEnd

-- +goose StatementBegin
do $$
declare
    line audit;
    last bytea := '';
    environment text := '';
begin
    for line in select * from audit order by audit.environment, id loop
        if line.environment <> environment then
            environment := line.environment;
            last := '';
        end if;
        update audit set previous = last, hash = audit_digest(last, line) where audit.environment = line.environment and audit.id = line.id returning audit.hash into last;
    end loop;
end
$$;
-- +goose StatementEnd
alter table audit alter column previous set not null, alter column hash set not null;

-- Lines are numbered and chained one transaction after the other: the lock is held
-- until it is committed.
-- +goose StatementBegin
create function audit_chain() returns trigger language plpgsql as $$
declare
    last record;
begin
    perform pg_advisory_xact_lock(8400005, hashtext(new.environment));
    select id, at, hash into last from audit where environment = new.environment order by id desc limit 1;
    new.id := coalesce(last.id, 0) + 1;
    new.at := greatest(clock_timestamp(), last.at);
    new.previous := coalesce(last.hash, '');
    new.hash := audit_digest(new.previous, new);
    return new;
end
$$;
-- +goose StatementEnd
create trigger audit_chain before insert on audit for each row execute function audit_chain();

-- Announcements that were refused are kept up to a number.
create index event_refused on event (environment, origin, received desc) where state = 'refused';

-- +goose Down
drop index event_refused, change_edition;
drop trigger audit_chain on audit;
drop function audit_chain, audit_digest;
alter table audit drop column previous, drop column hash;
drop table preview_link;
alter table session drop column id, drop column proved;
