-- +goose Up

-- The same bytes at several addresses are one file.
alter table mirrored add column hash text;
update mirrored m set hash = r.fields ->> 'hash' from entry e, revision r
    where e.environment = m.environment and e.id = m.entry
      and r.environment = e.environment and r.entry = e.id and r.number = e.revision;
create index mirrored_hash on mirrored (environment, hash);
create index mirrored_entry on mirrored (environment, entry);

-- +goose Down

drop index mirrored_entry, mirrored_hash;
alter table mirrored drop column hash;
