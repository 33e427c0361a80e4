import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Cell, Column, Row, Table, TableBody, TableHeader, TableLayout, Virtualizer, type SortDescriptor } from 'react-aria-components';
import { useNavigate, useSearchParams } from 'react-router';
import styled from 'styled-components';
import type { Certificate } from '../data/client';
import { csv, day, download, isDue, left, plural } from '../data/format';
import { every } from '../data/client';
import { certificatePage } from '../data/surveys';
import { Bar, Button, Pick, PickMany, Search } from '../parts/Controls';
import { SaveButton } from '../parts/SaveButton';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, space } from '../theme/tokens';

const Sheet = styled.div`
  border: 1px solid ${color.line}; background: ${color.raised}; overflow: hidden;
  [role='grid'] { display: block; height: min(640px, calc(100vh - 290px)); min-height: 300px; overflow: auto; outline-offset: -3px; }
  [role='columnheader'] { font: 600 14px ${font.sign}; padding: ${space(2)} ${space(3)}; border-bottom: 2px solid ${color.ink}; height: 100%; outline-offset: -3px; cursor: default; }
  [role='columnheader'][data-allows-sorting] { cursor: pointer; }
  [role='rowgroup']:first-child, [role='rowgroup']:first-child [role='row'] { background: ${color.raised}; }
  [role='row'] { outline-offset: -3px; cursor: pointer; }
  [role='row'][data-hovered] { background: ${color.sunk}; }
  [role='gridcell'], [role='rowheader'] { padding: ${space(2)} ${space(3)}; font-size: 15px; line-height: 24px; border-bottom: 1px solid ${color.line}; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; height: 100%; outline-offset: -3px; }
  .ended { color: ${color.oxide}; font-weight: 700; } .soon { color: ${color.brass}; font-weight: 700; }
`;

type Key = 'name' | 'issuer' | 'ends' | 'left' | 'key' | 'used' | 'seen' | 'print';
type Shown = { id: Key; head: string; sorts?: 'name' | 'issuer' | 'ends' | 'seen'; width: number | `${number}fr`; cell: (c: Certificate) => string; raw?: (c: Certificate) => string };

const columns: Shown[] = [
  { id: 'name', head: 'Names', sorts: 'name', width: '2fr', cell: (c) => (c.names.length ? c.names.join(', ') + (c.name_count > c.names.length ? ` and ${c.name_count - c.names.length} more` : '') : c.common_name), raw: (c) => c.names.join(' ') },
  { id: 'issuer', head: 'Issuer', sorts: 'issuer', width: '1fr', cell: (c) => c.issuer },
  { id: 'ends', head: 'Ends', sorts: 'ends', width: 175, cell: (c) => day(c.not_after), raw: (c) => c.not_after },
  { id: 'left', head: 'Left', width: 160, cell: (c) => left(c.days_left), raw: (c) => String(c.days_left) },
  { id: 'key', head: 'Key', width: 130, cell: (c) => c.key },
  { id: 'used', head: 'Bindings', width: 95, cell: (c) => String(c.bindings) },
  { id: 'seen', head: 'First seen', sorts: 'seen', width: 175, cell: (c) => day(c.first_seen), raw: (c) => c.first_seen },
  { id: 'print', head: 'SHA-256', width: 170, cell: (c) => c.sha256.slice(0, 16), raw: (c) => c.sha256 },
];

const usual: Key[] = ['name', 'issuer', 'ends', 'left', 'key', 'used'];

const within: [string, string][] = [['all', 'whenever'], ['-1', 'already'], ['7', 'within 7 days'], ['30', 'within 30 days'], ['90', 'within 90 days']];
const kinds: [string, string][] = [['host', 'hosts'], ['ca', 'CAs'], ['all', 'both']];
const uses: [string, string][] = [['all', 'anywhere or nowhere'], ['true', 'now'], ['false', 'no longer']];

function queryOf(p: URLSearchParams) {
  const sort = (p.get('sort') ?? 'ends') as 'ends';
  return {
    sort, ...(p.get('q') ? { q: p.get('q') ?? '' } : {}), ...(p.get('within') ? { days_left_max: Number(p.get('within')) } : {}),
    ...(p.get('kind') ? { kind: p.get('kind') as 'host' | 'ca' | 'all' } : {}), ...(p.get('used') ? { in_use: p.get('used') === 'true' } : {}),
  };
}

export function Certificates() {
  const [params, setParams] = useSearchParams();
  const [shown, setShown] = useState<Key[]>(usual);
  const query = queryOf(params);
  const pages = useInfiniteQuery({
    queryKey: ['get', '/certificates', query], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => certificatePage({ ...query, limit: 500, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  const set = (key: string, value: string, none = 'all') => setParams((p) => { if (value && value !== none) p.set(key, value); else p.delete(key); return p; }, { replace: true });
  const save = async () => {
    const all = await every((cursor) => certificatePage({ ...query, limit: 1000, ...cursor }));
    download('certificates.csv', 'text/csv', csv([columns.map((c) => c.head), ...all.map((c) => columns.map((k) => (k.raw ?? k.cell)(c)))]));
  };
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const filtered = [...params.keys()].some((k) => k !== 'sort');
  return (
    <>
      <h1>{pages.isPending ? 'Certificates' : `${plural(items.length, 'certificate')}${pages.hasNextPage ? ' and more' : ''}${filtered ? ' that fit' : ' met'}`}</h1>
      <Bar>
        <Search label="Name, issuer or fingerprint" value={params.get('q') ?? ''} onChange={(v) => set('q', v)} />
        <Pick label="Ends" value={params.get('within') ?? 'all'} options={within} onChange={(v) => set('within', v)} />
        <Pick label="For" value={params.get('kind') ?? 'host'} options={kinds} onChange={(v) => set('kind', v, 'host')} />
        <Pick label="Served" value={params.get('used') ?? 'all'} options={uses} onChange={(v) => set('used', v)} />
        <PickMany label="Columns" value={shown} options={columns.map((c) => [c.id, c.head])} onChange={(ids) => setShown(ids as Key[])} />
        <SaveButton save={save} />
      </Bar>
      {pages.isPending ? <Loading rows={9} /> : pages.isError ? <Failure error={pages.error} retry={() => void pages.refetch()} /> : items.length === 0 ? (
        <Empty title={filtered ? 'No certificate fits' : 'No certificate met yet'}>
          <p>{filtered ? 'Take a filter away to see more.' : <>A survey brings them: <code>insegna survey start</code></>}</p>
        </Empty>
      ) : (
        <Grid items={items} shown={columns.filter((c) => shown.includes(c.id))} sort={query.sort} onSort={(s) => set('sort', s, 'ends')} />
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Load 500 more</Button></Bar>}
    </>
  );
}

function Grid({ items, shown, sort, onSort }: { items: Certificate[]; shown: Shown[]; sort: string; onSort: (sort: string) => void }) {
  const go = useNavigate();
  const by = sort.replace('-', '');
  const descriptor: SortDescriptor = { column: columns.find((c) => c.sorts === by)?.id ?? 'ends', direction: sort.startsWith('-') ? 'descending' : 'ascending' };
  const change = (d: SortDescriptor) => {
    const name = columns.find((c) => c.id === d.column)?.sorts;
    if (name) onSort(d.direction === 'descending' ? `-${name}` : name);
  };
  return (
    <Sheet>
      <Virtualizer layout={TableLayout} layoutOptions={{ rowHeight: 41, headingHeight: 40 }}>
        <Table aria-label="Certificates" sortDescriptor={descriptor} onSortChange={change} onRowAction={(key) => void go(`/certificates/${key}`)}>
          <TableHeader columns={shown} dependencies={[sort]}>
            {(c) => (
              <Column id={c.id} isRowHeader={c.id === shown[0]?.id} allowsSorting={!!c.sorts} width={c.width} minWidth={90}>
                {c.head}{c.sorts === by && <span aria-hidden="true">{sort.startsWith('-') ? ' ▼' : ' ▲'}</span>}
              </Column>
            )}
          </TableHeader>
          <TableBody items={items} dependencies={[shown]}>
            {(c) => <Row id={c.sha256} columns={shown} dependencies={[shown]}>{(k) => <Cell><CellText c={c} column={k} /></Cell>}</Row>}
          </TableBody>
        </Table>
      </Virtualizer>
    </Sheet>
  );
}

function CellText({ c, column }: { c: Certificate; column: Shown }) {
  const text = column.cell(c);
  if (column.id !== 'left') return <span title={text}>{text}</span>;
  return <span className={c.days_left < 0 ? 'ended' : isDue(c) ? 'soon' : ''}>{text}</span>;
}
