-- +goose Up

-- Who writes documents and revisions holds their entries: nothing has to be looked up for each row.
alter table document drop constraint document_environment_entry_fkey;
alter table revision drop constraint revision_environment_entry_fkey;

-- +goose StatementBegin
create function forget_entries() returns trigger language plpgsql as $$
begin
    delete from document d using gone g where d.environment = g.environment and d.entry = g.id;
    delete from revision r using gone g where r.environment = g.environment and r.entry = g.id;
    return null;
end $$;
-- +goose StatementEnd

create trigger entry_gone after delete on entry referencing old table as gone
    for each statement execute function forget_entries();

-- Links gather in a short list, which readers go through, and come into the index together: a link to what
-- many lead to costs a kilobyte of WAL otherwise.
alter index document_links set (fastupdate = on, gin_pending_list_limit = 64);

-- No plan depends on what these hold, and to look at them takes as long as the rest of ANALYZE.
alter table document alter about set statistics 0, alter fields set statistics 0;
alter table revision alter fields set statistics 0;
alter table entry alter live set statistics 0;
alter table change alter fields set statistics 0, alter before set statistics 0, alter after set statistics 0,
    alter cause set statistics 0;

-- +goose Down

alter table change alter fields set statistics -1, alter before set statistics -1, alter after set statistics -1,
    alter cause set statistics -1;
alter table entry alter live set statistics -1;
alter table revision alter fields set statistics -1;
alter table document alter about set statistics -1, alter fields set statistics -1;
alter index document_links set (fastupdate = off);
alter index document_links reset (gin_pending_list_limit);
drop trigger entry_gone on entry;
drop function forget_entries();
alter table revision add foreign key (environment, entry) references entry on delete cascade;
alter table document add foreign key (environment, entry) references entry on delete cascade;
