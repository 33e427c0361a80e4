-- +goose Up
-- A place in a configuration is a file and a line, not a text.
alter table findings add source_file text not null default '', add source_line int not null default 0;
update findings set source_file = coalesce(substring(source from '^(.*):[0-9]+$'), source),
    source_line = coalesce(substring(source from ':([0-9]+)$')::int, 0) where source <> '';
alter table findings drop source;
alter table placements add named_file text not null default '', add named_line int not null default 0;
update placements set named_file = coalesce(substring(spot from '^(.*):[0-9]+$'), spot),
    named_line = coalesce(substring(spot from ':([0-9]+)$')::int, 0) where spot <> '';
alter table placements drop constraint placements_pkey, drop spot;
alter table placements add primary key (server_id, path, named_file, named_line);

-- What the last look came to by itself; wanted, configured, served and verdict
-- are that, set beside what the siblings serve.
alter table targets add looked_configured text not null default 'unread', add looked_served text not null default 'unread',
    add hurt boolean not null default false;
update targets t set looked_configured = configured, looked_served = served, hurt = verdict = 'broken';
update targets t set looked_served = 'agrees', looked_configured = case when configured = 'differs' then 'agrees' else configured end
    where served = 'differs'
    and exists (select from findings f where f.target_id = t.id and f.closed_at is null and f.code = 'differs-from-siblings')
    and not exists (select from findings f where f.target_id = t.id and f.closed_at is null and f.code in ('other-issuer', 'other-certificate',
        'name-not-covered', 'other-site-answers', 'site-not-enabled', 'not-reloaded', 'wrong-file', 'served-from-elsewhere'));

-- Readings are stored in another form from now on: each server is read anew by
-- the next survey, and until then shown as not read.
update readings set current = false where current;

-- What an installation changes is its destination's own plan. Earlier ones were
-- files under a link; their folders keep the names of the files in them.
alter table installations add plan jsonb, add asked_back boolean not null default false, add unasked boolean not null default false;
update installations set plan = jsonb_build_object(
        'where', folder, 'files', edits,
        'acts', jsonb_build_array(
            jsonb_build_object('does', 'new', 'what', format('%s/versions/%s/chain.pem and key.pem', folder, version)),
            jsonb_build_object('does', 'link', 'what', format('%s/now: %s → versions/%s', folder,
                case when before = '' then 'nothing yet' else 'versions/' || before end, version)),
            jsonb_build_object('does', 'test', 'what', test), jsonb_build_object('does', 'reload', 'what', reload)),
        'own', jsonb_build_object('folder', folder, 'version', version, 'before', before, 'certificates', 'chain.pem', 'key', 'key.pem',
            'copy', regexp_replace(folder, '/insegna/[^/]*$', '') || '/.insegna-' || regexp_replace(folder, '^.*/', '') || '.',
            'test', test, 'reload', reload)),
    unasked = edits = '[]', asked_back = reason like 'taken back by %';
alter table installations alter plan set not null, drop folder, drop version, drop before, drop edits, drop test, drop reload;

-- Where a mandate is installed, and why it is due when it is.
alter table mandates add servers jsonb not null default '[]', add by_window boolean not null default false;
update mandates m set by_window = next_why like 'in the window its CA suggests%', servers = coalesce(
    (select jsonb_agg(distinct split_part(ref, ':', 1)) from jsonb_array_elements_text(case jsonb_typeof(m.spec->'install') when 'array' then m.spec->'install' else '[]' end) ref), '[]');

-- +goose Down
alter table mandates drop servers, drop by_window;
alter table installations add folder text not null default '', add version text not null default '', add before text not null default '',
    add edits jsonb not null default '[]', add test text not null default '', add reload text not null default '';
update installations set folder = coalesce(plan #>> '{own,folder}', ''), version = coalesce(plan #>> '{own,version}', ''), before = coalesce(plan #>> '{own,before}', ''),
    edits = coalesce(plan -> 'files', '[]'), test = coalesce(plan #>> '{own,test}', ''), reload = coalesce(plan #>> '{own,reload}', '');
alter table installations drop plan, drop asked_back, drop unasked;
alter table targets drop looked_configured, drop looked_served, drop hurt;
alter table placements drop constraint placements_pkey;
alter table placements add spot text not null default '';
update placements set spot = named_file || ':' || named_line where named_file <> '';
alter table placements drop named_file, drop named_line, add primary key (server_id, path, spot);
alter table findings add source text not null default '';
update findings set source = source_file || case when source_line > 0 then ':' || source_line else '' end;
alter table findings drop source_file, drop source_line;
