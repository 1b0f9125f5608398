-- +goose Up

-- The head of the log was a row of its own, written by every commit. While some
-- reader holds a snapshot open its old versions cannot go, and every look at the
-- row walks through them. The newest change says the same, and is never written
-- again; writers meet at an advisory lock instead.
alter table environment add column model_version bigint not null default 0;
update environment e set model_version = h.model_version from head h where h.environment = e.name;
drop table head;

-- +goose Down
create table head (
    environment   text primary key references environment,
    sequence      bigint      not null,
    commit        bigint      not null,
    at            timestamptz not null,
    model_version bigint      not null,
    stamp         text        not null generated always as (sequence::text || ' ' || model_version::text) stored
) with (fillfactor = 10);
insert into head (environment, sequence, commit, at, model_version)
    select e.name, c.sequence, c.commit, c.at, e.model_version from environment e
    join lateral (select * from change where environment = e.name order by sequence desc limit 1) c on true;
alter table environment drop column model_version;
