import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { every, type Schemas } from '../data/client';
import { ago, csv, download, plural } from '../data/format';
import { serverPage } from '../data/servers';
import { Bar, Button, Choice, Search } from '../parts/Controls';
import { Prose } from '../parts/Prose';
import { Severity } from '../parts/Severity';
import { SaveButton } from '../parts/SaveButton';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, narrow, radius, space } from '../theme/tokens';

type Server = Schemas['Server'];

const Row = styled.ul`
  list-style: none; margin: ${space(4)} 0; padding: 0; background: ${color.raised}; border: 1px solid ${color.line};
  > li { display: grid; grid-template-columns: 200px 230px minmax(0, 1fr) 120px; gap: ${space(2)} ${space(5)}; padding: ${space(4)}; content-visibility: auto; contain-intrinsic-size: auto 84px; }
  > li + li { border-top: 1px solid ${color.line}; }
  h2 { font-size: 19px; margin: 0; overflow-wrap: anywhere; } small { display: block; font: 14px ${font.mono}; color: ${color.soft}; overflow-wrap: anywhere; }
  .end { text-align: right; }
  .trouble { color: ${color.oxide}; }
  ${narrow} { > li { grid-template-columns: minmax(0, 1fr); } .end { text-align: left; } }
`;

const Strip = styled.div`
  display: flex; height: 14px; border: 1px solid ${color.soft}; border-radius: ${radius}; overflow: hidden; margin-bottom: ${space(1)}; background: ${color.sunk};
  span { display: block; min-width: 4px; } .broken { background: ${color.oxide}; } .odds { background: repeating-linear-gradient(45deg, ${color.oxide} 0 3px, ${color.raised} 3px 6px); } .agreed { background: ${color.agreed}; }
`;

/** How a server's bindings stand, as one strip that reads as text as well. */
function Standing({ s }: { s: Server }) {
  if (s.bindings === 0) return <span>no host is wanted here</span>;
  const parts: [string, number, string][] = [['broken', s.broken, 'broken'], ['odds', s.at_odds, 'at odds'], ['agreed', s.agreed, 'agreed'], ['', s.unknown, 'not read']];
  const text = parts.filter(([, n]) => n > 0).map(([, n, word]) => `${n} ${word}`).join(', ');
  return (
    <>
      <Strip aria-hidden="true">{parts.map(([name, n, word]) => n > 0 && <span key={word} className={name} style={{ flexGrow: n }} />)}</Strip>
      {plural(s.bindings, 'binding')}: {text}
    </>
  );
}

function Configuration({ s }: { s: Server }) {
  if (!s.reach) return <span>Not read: the estate file declares no <code>reach</code> for it.</span>;
  if (s.trouble) return <span className="trouble"><Prose text={`Not read ${s.tried_at ? ago(s.tried_at) : ''}: ${s.trouble}.`} /></span>;
  if (!s.read) return <span>Not read yet; the next survey does.</span>;
  return (
    <span>
      {plural(s.sites, 'site')} in {plural(s.files, 'file')}, {plural(s.listeners, 'listener')}
      {s.problems > 0 && <>, <strong>{plural(s.problems, 'problem')}</strong></>}
      <small>{s.main}</small>
      <small>read {s.last_read && ago(s.last_read)} ({s.reach}){s.loaded && `; loaded by the server ${ago(s.loaded)}`}</small>
    </span>
  );
}

const read: [string, string][] = [['all', 'all'], ['true', 'read'], ['false', 'not read']];

export function Servers() {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) => setParams((p) => { if (value && value !== 'all') p.set(key, value); else p.delete(key); return p; }, { replace: true });
  const query = { ...(params.get('q') ? { q: params.get('q') ?? '' } : {}), ...(params.get('read') ? { read: params.get('read') === 'true' } : {}), sort: params.get('sort') === '-name' ? ('-name' as const) : ('name' as const) };
  const pages = useInfiniteQuery({
    queryKey: ['get', '/servers', query], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => serverPage({ ...query, limit: 200, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  if (pages.isPending) return <Loading />;
  if (pages.isError) return <Failure error={pages.error} retry={() => void pages.refetch()} />;
  const items = pages.data.pages.flatMap((p) => p.items);
  const filtered = params.has('q') || params.has('read');
  const save = async () => {
    const all = await every((cursor) => serverPage({ ...query, limit: 1000, ...cursor }));
    download('servers.csv', 'text/csv', csv([['server', 'kind', 'reach', 'bindings', 'broken', 'at odds', 'sites', 'files', 'problems', 'findings', 'trouble', 'read', 'loaded'],
      ...all.map((s) => [s.name, s.kind, s.reach, ...[s.bindings, s.broken, s.at_odds, s.sites, s.files, s.problems, s.findings].map(String), s.trouble, s.last_read ?? '', s.loaded ?? ''])]));
  };
  return (
    <>
      <h1>{plural(items.length, 'server')}{pages.hasNextPage && ' and more'}{filtered && ' that fit'}: {items.filter((s) => s.read && !s.trouble).length} read, {items.filter((s) => s.worst === 'broken').length} with something broken</h1>
      <Bar>
        <Choice label="Configuration" value={params.get('read') ?? 'all'} options={read} onChange={(v) => set('read', v)} />
        <Search label="Name, kind or address" value={params.get('q') ?? ''} onChange={(v) => set('q', v)} />
        <Button onPress={() => set('sort', query.sort === 'name' ? '-name' : '')}>{query.sort === 'name' ? 'Name A to Z' : 'Name Z to A'}</Button>
        <SaveButton save={save} />
      </Bar>
      {items.length === 0 ? (
        <Empty title={filtered ? 'No server fits' : 'No server yet'}>
          <p>{filtered ? 'Take a filter away to see more.' : <>Servers are declared in the estate file: <code>insegna estate apply FILE</code></>}</p>
        </Empty>
      ) : (
        <Row aria-label="Servers">
          {items.map((s) => (
            <li key={s.name}>
              <div><h2><Link to={`/servers/${encodeURIComponent(s.name)}`}>{s.name}</Link></h2><small>{s.kind}, line {s.line}</small></div>
              <div><Standing s={s} /></div>
              <div><Configuration s={s} /></div>
              <div className="end">{s.worst ? <><Severity name={s.worst} /><br />{plural(s.findings, 'finding')}</> : 'nothing found'}</div>
            </li>
          ))}
        </Row>
      )}
      {pages.hasNextPage && <Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show more servers</Button>}
    </>
  );
}
