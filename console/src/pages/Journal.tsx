import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import styled from 'styled-components';
import { api, every } from '../data/client';
import { csv, download, moment } from '../data/format';
import { journalPage } from '../data/journal';
import { Bar, Button, Plain, Scroll, Search } from '../parts/Controls';
import { SaveButton } from '../parts/SaveButton';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font } from '../theme/tokens';

const Whole = styled.p<{ $broken: boolean }>`
  font-size: 18px; ${(p) => p.$broken && `color: ${color.oxide}; font-weight: 700;`}
  code { font-family: ${font.mono}; overflow-wrap: anywhere; }
`;

export function Journal() {
  const [params, setParams] = useSearchParams();
  const q = params.get('q') ?? '';
  const set = (value: string) => setParams((p) => { if (value) p.set('q', value); else p.delete('q'); return p; }, { replace: true });
  const pages = useInfiniteQuery({
    queryKey: ['get', '/journal', q], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => journalPage({ ...(q ? { q } : {}), limit: 100, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  if (pages.isPending) return <Loading />;
  if (pages.isError) return <Failure error={pages.error} retry={() => void pages.refetch()} />;
  const items = pages.data.pages.flatMap((p) => p.items);
  const save = async () => {
    const all = await every((cursor) => journalPage({ ...(q ? { q } : {}), limit: 1000, ...cursor }));
    download('journal.csv', 'text/csv', csv([['entry', 'at', 'actor', 'action', 'subject', 'detail', 'hash'], ...all.map((e) => [String(e.id), e.at, e.actor, e.action, e.subject, e.detail, e.hash])]));
  };
  return (
    <>
      <h1>Who did what</h1>
      <Verification />
      <Bar>
        <Search label="Who, what or to what" value={q} onChange={set} />
        <SaveButton save={save} />
      </Bar>
      {items.length === 0 ? (
        <Empty title={q ? 'No entry fits' : 'Nothing was done yet'}><p>{q ? 'Take the search away to see more.' : <>Applying an estate file is the first thing that is noted: <code>insegna estate apply FILE</code></>}</p></Empty>
      ) : (
        <Scroll tabIndex={0} role="region" aria-label="Journal">
          <Plain>
            <thead><tr><th>Entry</th><th>When</th><th>Who</th><th>What</th><th>Hash</th></tr></thead>
            <tbody>
              {items.map((e) => (
                <tr key={e.id}>
                  <td>{e.id}</td><td className="n">{moment(e.at)}</td><td>{e.actor}</td>
                  <td><strong>{e.action}</strong> {e.subject}{e.detail !== '{}' && <><br /><code>{e.detail}</code></>}</td>
                  <td className="n"><code title={e.hash}>{e.hash.slice(0, 12)}</code></td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show 100 more</Button></Bar>}
    </>
  );
}

/** Says whether the journal is as it was written. */
function Verification() {
  const q = api.useQuery('get', '/journal/verification');
  if (q.isError) return <Failure what="Whether the journal is whole" error={q.error} retry={() => void q.refetch()} />;
  if (!q.data || q.data.entries === 0 && q.data.whole) return null;
  const { whole, entries, head, broken_at: at, reason } = q.data;
  return (
    <Whole $broken={!whole} role={whole ? undefined : 'alert'}>
      {whole ? <>The journal is whole: {entries === 1 ? '1 entry' : `${entries} entries`}, the last is <code>{head.slice(0, 24)}…</code></> : <>The journal is broken at entry {at}: {reason}.</>}
    </Whole>
  );
}
