-- +goose Up

-- hits is how often the answers to a request were served from the cache, those of late counting most: the
-- pages of the requests that are asked for most are looked after first.
alter table page_read add column hits bigint not null default 0;
alter table page add column hits bigint not null default 0;

-- Of a site with more pages or requests than are known one by one, a change of any of whole_types makes all
-- of it stale; '' stands for every type.
alter table page_ledger add column whole_types text[] not null default '{}';

-- +goose Down

alter table page_ledger drop column whole_types;
alter table page drop column hits;
alter table page_read drop column hits;
