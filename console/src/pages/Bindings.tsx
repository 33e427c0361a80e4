import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Dialog, DialogTrigger, Button as AriaButton } from 'react-aria-components';
import { Link, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { api, every, type Binding, type Verdict } from '../data/client';
import { csv, download, left, plural } from '../data/format';
import { useKinds, type Kind } from '../data/servers';
import { bindingPage } from '../data/surveys';
import { Belongs, belonging, BelongsPicks } from '../parts/Belonging';
import { Bar, Button, Choice, Panel, Pick, Search } from '../parts/Controls';
import { Plate, PlateLegend } from '../parts/Plate';
import { Prose } from '../parts/Prose';
import { SaveButton } from '../parts/SaveButton';
import { Spot } from '../parts/Spot';
import { Empty, Failure, Loading } from '../parts/States';
import { color, font, narrow, radius, space } from '../theme/tokens';

const Street = styled.ul`
  list-style: none; margin: ${space(4)} 0; padding: 0; background: ${color.raised}; border: 1px solid ${color.line};
  > li { display: grid; grid-template-columns: 300px minmax(0, 1.3fr) minmax(0, 1fr); gap: ${space(2)} ${space(4)}; padding: ${space(3)} ${space(4)}; content-visibility: auto; contain-intrinsic-size: auto 76px; }
  > li + li { border-top: 1px solid ${color.line}; }
  h2 { font-size: 15px; margin: ${space(1)} 0 0; overflow-wrap: anywhere; font-stretch: 100%; }
  .endpoints { display: flex; align-content: start; align-items: start; flex-wrap: wrap; gap: ${space(2)} ${space(3)}; }
  .endpoints button { display: flex; gap: ${space(2)}; align-items: center; text-align: left; font: 14px/1.25 ${font.text}; color: ${color.ink}; background: none; border: 1px solid transparent; border-radius: ${radius}; padding: ${space(1)}; cursor: pointer; min-width: 190px; white-space: nowrap; }
  .endpoints button[data-hovered] { border-color: ${color.soft}; }
  .endpoints small { display: block; font: 13px ${font.mono}; color: ${color.soft}; }
  .why { font-size: 15px; margin-top: ${space(1)}; }
  ${narrow} { > li { grid-template-columns: 1fr; } }
`;

const Sheet = styled.div`
  padding: ${space(4)}; font-size: 15px; dl { display: grid; grid-template-columns: auto 1fr; gap: ${space(1)} ${space(3)}; margin: ${space(3)} 0 0; }
  dt { color: ${color.soft}; } dd { margin: 0; overflow-wrap: anywhere; } h3 { overflow-wrap: anywhere; }
`;

const verdicts: [string, string][] = [['all', 'all'], ['broken', 'broken'], ['at-odds', 'at odds'], ['agreed', 'agreed'], ['unknown', 'not read']];

/** From the visitor inwards: what stands in front comes first. */
function byHost(items: Binding[], kinds: Kind[]): [string, Binding[]][] {
  const depth = new Map(kinds.map((k) => [k.name, k.hops]));
  const hops = (b: Binding) => depth.get(b.kind) ?? Infinity;
  const groups = new Map<string, Binding[]>();
  for (const b of items) groups.set(b.host, [...(groups.get(b.host) ?? []), b]);
  return [...groups].map(([host, list]) => [host, list.sort((a, b) => Math.sign(hops(a) - hops(b)) || a.server.localeCompare(b.server))]);
}

export function Bindings() {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) => setParams((p) => { if (value && value !== 'all') p.set(key, value); else p.delete(key); return p; }, { replace: true });
  const filter = {
    ...(params.get('q') ? { q: params.get('q') ?? '' } : {}), ...(params.get('server') ? { server: params.get('server') ?? '' } : {}),
    ...(params.get('verdict') ? { verdict: [params.get('verdict') as Verdict] } : {}), ...belonging(params), sort: params.get('sort') === '-host' ? ('-host' as const) : ('host' as const),
  };
  const pages = useInfiniteQuery({
    queryKey: ['get', '/bindings', filter], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => bindingPage({ ...filter, limit: 200, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  const estate = api.useQuery('get', '/estate', {}, { retry: false });
  const kinds = useKinds();
  if (pages.isPending) return <Loading />;
  if (pages.isError) return <Failure error={pages.error} retry={() => void pages.refetch()} />;
  const { counts: c, total } = pages.data.pages[0] ?? { counts: { hosts: 0, servers: 0 }, total: 0 };
  const items = pages.data.pages.flatMap((p) => p.items);
  const servers: [string, string][] = [['all', 'all'], ...(estate.data?.servers ?? []).map((s): [string, string] => [s.name, s.name])];
  const save = async () => {
    const all = await every((cursor) => bindingPage({ ...filter, limit: 1000, ...cursor }));
    download('bindings.csv', 'text/csv', csv([['host', 'server', 'endpoint', 'verdict', 'faces', 'cause', 'remedy', 'certificate'],
      ...all.map((b) => [b.host, b.server, b.endpoint, b.verdict, b.faces.text, b.cause, b.remedy, b.certificate ?? ''])]));
  };
  return (
    <>
      <h1>{plural(total, 'binding')}, {plural(c.hosts, 'host')}, {plural(c.servers, 'server')}</h1>
      <Bar>
        <Choice label="Verdict" value={params.get('verdict') ?? 'all'} options={verdicts} onChange={(v) => set('verdict', v)} />
        <Search label="Host, server or address" value={params.get('q') ?? ''} onChange={(v) => set('q', v)} />
        <Pick label="Server" value={params.get('server') ?? 'all'} options={servers} onChange={(v) => set('server', v)} />
        <BelongsPicks params={params} set={set} />
        <Button onPress={() => set('sort', filter.sort === 'host' ? '-host' : '')}>{filter.sort === 'host' ? 'Host A to Z' : 'Host Z to A'}</Button>
        <SaveButton save={save} />
      </Bar>
      <PlateLegend />
      {items.length === 0 ? (
        <Empty title={total === 0 ? 'No binding yet' : 'No binding fits'}>
          <p>{total === 0 ? <>Apply an estate file that wants a host at a server: <code>insegna estate apply FILE</code></> : 'Take a filter away to see more.'}</p>
        </Empty>
      ) : (
        <Street aria-label="Bindings by host">{byHost(items, kinds).map(([host, list]) => <HostRow key={host} host={host} list={list} />)}</Street>
      )}
      {pages.hasNextPage && <Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show more hosts</Button>}
    </>
  );
}

function HostRow({ host, list }: { host: string; list: Binding[] }) {
  const causes = [...new Set(list.filter((b) => b.cause).map((b) => b.cause))];
  return (
    <li>
      <div><h2>{host}</h2><Belongs to={list[0]?.belongs} /></div>
      <div className="endpoints">{list.map((b) => <BindingButton key={b.id} b={b} />)}</div>
      <div className="why">{causes.map((cause) => <p key={cause}><Prose text={cause} /></p>)}</div>
    </li>
  );
}

function BindingButton({ b }: { b: Binding }) {
  return (
    <DialogTrigger>
      <AriaButton>
        <Plate faces={b.faces} verdict={b.verdict} label={b.host} />
        <span>{b.server}<small>{b.endpoint}</small></span>
      </AriaButton>
      <Panel>
        <Dialog aria-label={`${b.host} at ${b.endpoint}`}>
          <Sheet>
            <h3>{b.host}</h3>
            <p>{b.server}, <code>{b.endpoint}</code></p>
            {b.cause && <p><strong><Prose text={`${b.cause}.`} /></strong> To mend it: <Prose text={`${b.remedy}.`} /></p>}
            <dl>
              <dt>faces</dt><dd>{b.faces.text}</dd>
              <dt>seen</dt><dd>{[b.outcome ?? 'not looked at', b.protocol, b.group].filter(Boolean).join(', ')}</dd>
              {b.issuer && <><dt>issuer</dt><dd>{b.issuer}</dd></>}
              {b.days_left !== undefined && <><dt>left</dt><dd>{left(b.days_left)}</dd></>}
              {b.source && <><dt>configured</dt><dd><Spot server={b.server} spot={b.source} /></dd></>}
              <dt>server</dt><dd><Link to={`/servers/${encodeURIComponent(b.server)}?q=${encodeURIComponent(b.host)}&host=${encodeURIComponent(b.host)}`}>its sites on {b.server}</Link></dd>
              <dt>declared</dt><dd>line {b.line} of the estate file</dd>
              {b.certificate && <><dt>certificate</dt><dd><Link to={`/certificates/${b.certificate}`}>{b.certificate.slice(0, 16)}…</Link></dd></>}
            </dl>
          </Sheet>
        </Dialog>
      </Panel>
    </DialogTrigger>
  );
}
