import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, every, type Severity } from '../data/client';
import { findingPage, type FindingQuery } from '../data/findings';
import { csv, download, plural } from '../data/format';
import { belonging, BelongsPicks } from '../parts/Belonging';
import { Bar, Button, Choice, Pick, Search } from '../parts/Controls';
import { FindingList, titles } from '../parts/FindingCard';
import { SaveButton } from '../parts/SaveButton';
import { Empty, Failure, Loading } from '../parts/States';

const states: [string, string][] = [['open', 'open'], ['accepted', 'accepted'], ['closed', 'closed'], ['all', 'all']];
const severities: [string, string][] = [['all', 'all'], ['broken', 'broken'], ['due', 'due'], ['weak', 'weak'], ['note', 'note']];

/** Every finding there is or was, the worst first. */
export function Findings() {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) => setParams((p) => { if (value && value !== 'all') p.set(key, value); else p.delete(key); return p; }, { replace: true });
  const state = (params.get('state') ?? 'open') as 'open';
  const query: FindingQuery = {
    state, sort: state === ('closed' as string) ? '-opened' : 'worst', ...(params.get('q') ? { q: params.get('q') ?? '' } : {}), ...belonging(params),
    ...(params.get('severity') ? { severity: [params.get('severity') as Severity] } : {}),
  };
  const pages = useInfiniteQuery({
    queryKey: ['get', '/findings', query], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => findingPage({ ...query, limit: 50, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  if (pages.isPending) return <Loading />;
  if (pages.isError) return <Failure error={pages.error} retry={() => void pages.refetch()} />;
  const c = pages.data.pages[0]?.counts ?? { broken: 0, due: 0, weak: 0, note: 0, accepted: 0 };
  const items = pages.data.pages.flatMap((p) => p.items);
  const save = async () => {
    const all = await every((cursor) => findingPage({ ...query, limit: 1000, ...cursor }));
    download('findings.csv', 'text/csv', csv([['number', 'severity', 'code', 'host', 'server', 'endpoint', 'group', 'owner', 'tags', 'cause', 'remedy', 'opened', 'closed', 'accepted until'],
      ...all.map((f) => [String(f.id), f.severity, f.code, f.host, f.server, f.endpoint, f.belongs?.group ?? '', f.belongs?.owner ?? '', (f.belongs?.tags ?? []).join(' '), f.cause, f.remedy, f.opened_at, f.closed_at ?? '', f.acceptance?.until ?? ''])]));
  };
  return (
    <>
      <h1>{plural(c.broken + c.due + c.weak + c.note, 'open finding')}{c.accepted > 0 && `, and ${c.accepted} accepted`}</h1>
      <Bar>
        <Choice label="State" value={state} options={states} onChange={(v) => setParams((p) => { p.set('state', v); return p; }, { replace: true })} />
        <Search label="Host, server, address or cause" value={params.get('q') ?? ''} onChange={(v) => set('q', v)} />
        <Pick label="Severity" value={params.get('severity') ?? 'all'} options={severities} onChange={(v) => set('severity', v)} />
        <BelongsPicks params={params} set={set} />
        <SaveButton save={save} />
      </Bar>
      {items.length === 0 ? <Empty title="No finding fits"><p>{params.size > 0 ? 'Take a filter away to see more.' : 'Nothing is wrong as far as was looked.'}</p></Empty>
        : state === ('closed' as string) ? <section aria-label="Closed"><h2>Newest first</h2><FindingList items={items} /></section>
        : titles.map(([severity, title]) => { const part = items.filter((f) => f.severity === severity); return part.length > 0 && <section key={severity} aria-label={title}><h2>{title}</h2><FindingList items={part} /></section>; })}
      {pages.hasNextPage && <Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show more findings</Button>}
    </>
  );
}

/** One finding, where messages and calendars lead to. */
export function FindingPage() {
  const id = Number(useParams()['id']);
  const q = api.useQuery('get', '/findings/{id}', { params: { path: { id } } }, { retry: false });
  if (q.isPending) return <Loading />;
  if (q.isError) return <Failure error={q.error} retry={() => void q.refetch()} />;
  return (
    <>
      <h1>Finding {q.data.id}</h1>
      <h2>{q.data.closed_at ? 'Closed' : titles.find(([severity]) => severity === q.data.severity)?.[1]}</h2>
      <FindingList items={[q.data]} />
      <p><Link to="/findings">All findings</Link>{q.data.under && <>, <Link to={`/findings/${q.data.under}`}>the one it is counted under</Link></>}</p>
    </>
  );
}
