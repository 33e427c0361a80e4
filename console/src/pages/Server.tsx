import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import { api, type Problem, type Schemas } from '../data/client';
import { ago, capital, left, moment, notJustNow, plural } from '../data/format';
import { beginHttps } from '../data/https';
import { changePage, materialPage, sitePage, useKinds } from '../data/servers';
import { Bar, Button, Choice, Plain, Scroll, Search } from '../parts/Controls';
import { MendButton } from '../parts/MendButton';
import { Prose } from '../parts/Prose';
import { Severity } from '../parts/Severity';
import { Spot } from '../parts/Spot';
import { Empty, Failure, Loading } from '../parts/States';
import { SurveyButton } from '../parts/SurveyButton';
import { color, font, narrow, space } from '../theme/tokens';

type Detail = Schemas['ServerDetail'];
type Site = Schemas['Site'];
type Hop = Schemas['Hop'];
type Material = Schemas['Material'];

const Page = styled.div`
  section { margin-top: ${space(7)}; } h1 { overflow-wrap: anywhere; }
  .lead { font-size: 18px; margin: ${space(2)} 0 0; } .trouble { color: ${color.oxide}; font-weight: 700; }
  td ul { list-style: none; margin: 0; padding: 0; } td small { display: block; color: ${color.soft}; font-size: 14px; } .bad { color: ${color.oxide}; font-weight: 700; }
  td code { overflow-wrap: anywhere; } td .host { white-space: nowrap; } td p { min-width: 260px; }
`;

export function ServerPage() {
  const { name = '' } = useParams();
  const q = api.useQuery('get', '/servers/{name}', { params: { path: { name } } });
  if (q.isPending) return <Loading />;
  if (q.isError) {
    if (q.error.status === 404) return <Empty page title="No such server"><p>The estate declares none of that name. <Link to="/servers">See all servers</Link>.</p></Empty>;
    return <Failure error={q.error} retry={() => void q.refetch()} />;
  }
  return <One d={q.data} />;
}

function One({ d }: { d: Detail }) {
  const s = d.server;
  return (
    <Page>
      <h1>{s.name}</h1>
      <Lead d={d} />
      <Bar>
        <SurveyButton main scope={{ server: s.name }}>Read and look again</SurveyButton>
        <Link to={`/bindings?server=${encodeURIComponent(s.name)}`}>{plural(s.bindings, 'binding')}</Link>
        {d.files[0] && <Link to={`/servers/${encodeURIComponent(s.name)}/text`}>Configuration text, {plural(s.files, 'file')}</Link>}
      </Bar>
      <Findings name={s.name} />
      {s.read && <Sites name={s.name} />}
      {s.read && <MaterialList name={s.name} />}
      {s.read && <Changes name={s.name} />}
      {s.read && <Who name={s.name} />}
      {d.listeners.length > 0 && <Listeners d={d} />}
      {d.problems.length > 0 && <Problems d={d} />}
    </Page>
  );
}

function Lead({ d: { server: s, commands } }: { d: Detail }) {
  const kind = useKinds().find((k) => k.name === s.kind);
  if (kind && kind.cannot.length > 0) return <p className="lead">{kind.title}. Not possible there yet: {kind.cannot.join(', ')}.</p>;
  if (!s.reach) return <p className="lead">{s.kind}. Its configuration is not read: declare <code>reach</code> for it in the estate file, line {s.line}.</p>;
  return (
    <>
      {s.trouble && <p className="lead trouble"><Prose text={`Not read ${s.tried_at ? ago(s.tried_at) : ''}: ${s.trouble}.`} /></p>}
      {s.read && (
        <p className="lead">
          {s.kind}, {plural(s.sites, 'site')} at {plural(s.listeners, 'listener')}, read {s.last_read && ago(s.last_read)} ({s.reach})
          {s.loaded && <>; the running server loaded its configuration {ago(s.loaded)}</>}.
        </p>
      )}
      {!s.read && !s.trouble && <p className="lead">{s.kind}. Its configuration was not read yet; the next survey does.</p>}
      <p>{commands.map((c) => <span key={c.key}>{capital(c.key)}: <code>{c.command}</code>. </span>)}</p>
    </>
  );
}

function Findings({ name }: { name: string }) {
  const q = api.useQuery('get', '/findings', { params: { query: { server: name, limit: 50 } } });
  if (q.isError) return <section aria-label="Findings"><Failure what="Its findings" error={q.error} retry={() => void q.refetch()} /></section>;
  const items = q.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <section aria-label="Findings">
      <h2>{plural(items.length, 'finding')}{q.data?.next_cursor && ' and more'}</h2>
      <Scroll tabIndex={0} role="region" aria-label="Table of findings">
        <Plain>
          <thead><tr><th>Severity</th><th>What is wrong, and what to do</th><th>Where</th></tr></thead>
          <tbody>
            {items.map((f) => (
              <tr key={f.id}>
                <td className="n"><Severity name={f.severity} /></td>
                <td><p><Prose text={`${capital(f.cause)}.`} /></p><p><strong><Prose text={`${capital(f.remedy)}.`} /></strong></p></td>
                <td>{f.host || f.server}{f.endpoint && <small>{f.endpoint}</small>}{f.source && <Spot server={f.server} spot={f.source} />}</td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
      {items.some((f) => f.mending.can) && <Bar><MendButton which={{ server: name }}>Mend what mends itself</MendButton></Bar>}
    </section>
  );
}

const force: [string, string][] = [['all', 'all'], ['true', 'in force'], ['false', 'not switched on']];

function Sites({ name }: { name: string }) {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) => setParams((p) => { if (value && value !== 'all') p.set(key, value); else p.delete(key); return p; }, { replace: true });
  const query = { ...(params.get('q') ? { q: params.get('q') ?? '' } : {}), ...(params.get('force') ? { in_force: params.get('force') === 'true' } : {}) };
  const pages = useInfiniteQuery({
    queryKey: ['get', '/servers/sites', name, query], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => sitePage(name, { ...query, limit: 100, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section aria-label="Sites">
      <h2>Sites</h2>
      <Bar>
        <Choice label="Switched on" value={params.get('force') ?? 'all'} options={force} onChange={(v) => set('force', v)} />
        <Search label="Name, file or address" value={params.get('q') ?? ''} onChange={(v) => set('q', v)} />
      </Bar>
      {pages.isPending ? <Loading rows={4} /> : pages.isError ? <Failure error={pages.error} retry={() => void pages.refetch()} /> : items.length === 0 ? <p>No site fits.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="Table of sites">
          <Plain>
            <thead><tr><th>Names</th><th>Listens</th><th>Certificate, or what plain http does</th></tr></thead>
            <tbody>{items.map((site) => <SiteRow key={site.spot} server={name} site={site} />)}</tbody>
          </Plain>
        </Scroll>
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show 100 more</Button></Bar>}
    </section>
  );
}

const uses: [string, string][] = [['', 'all'], ['true', 'left over']];

/** The files of certificates and keys that lie on the server, and what each is good for. */
function MaterialList({ name }: { name: string }) {
  const [params, setParams] = useSearchParams();
  const unused = params.get('unused') === 'true';
  const pages = useInfiniteQuery({
    queryKey: ['get', '/servers/material', name, unused], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => materialPage(name, { ...(unused ? { unused } : {}), limit: 100, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const choose = (v: string) => setParams((p) => { if (v) p.set('unused', v); else p.delete('unused'); return p; }, { replace: true });
  return (
    <section aria-label="Files of certificates and keys">
      <h2>Files of certificates and keys</h2>
      <Bar><Choice label="Files" value={params.get('unused') ?? ''} options={uses} onChange={choose} /></Bar>
      {pages.isPending ? <Loading rows={3} /> : pages.isError ? <Failure error={pages.error} retry={() => void pages.refetch()} /> : items.length === 0 ? <p>{unused ? 'Nothing lies there for nothing.' : 'No file is known.'}</p> : (
        <Scroll tabIndex={0} role="region" aria-label="Table of files">
          <Plain>
            <thead><tr><th>File</th><th>Holds</th><th>Good for</th></tr></thead>
            <tbody>{items.map((m) => <MaterialRow key={m.path} server={name} m={m} />)}</tbody>
          </Plain>
        </Scroll>
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show 100 more</Button></Bar>}
    </section>
  );
}

function MaterialRow({ server, m }: { server: string; m: Material }) {
  return (
    <tr>
      <td><code>{m.path}</code></td>
      <td>
        {m.sha256 !== undefined && <p><Link to={`/certificates/${m.sha256}`}>{m.common_name}</Link>{m.days_left !== undefined && `, ${left(m.days_left)}`}</p>}
        {m.has_key && <small>a private key</small>}
        {m.open && <small className="bad">everybody on the machine may read it ({m.mode})</small>}
        {m.same_key_on.length > 0 && <small>the same key lies on {m.same_key_on.join(', ')}</small>}
      </td>
      <td>
        <p>{m.can_go ? 'can go' : goodFor[m.state]}</p>
        <small>{m.why}</small>{m.spot !== undefined && <> <Spot server={server} spot={m.spot} /></>}
      </td>
    </tr>
  );
}

const goodFor = { used: 'in use', idle: 'for a site not in force', newer: 'newer than the one in use', copy: 'a copy', superseded: 'superseded', ended: 'ended', unused: 'nothing uses it', stray: 'fits nothing here', needed: 'the key that fits, and no site names it', ca: 'of a CA' };

/** What changed between the readings, the newest first. */
function Changes({ name }: { name: string }) {
  const pages = useInfiniteQuery({
    queryKey: ['get', '/servers/changes', name], initialPageParam: '',
    queryFn: ({ pageParam }) => changePage(name, { limit: 5, ...(pageParam ? { cursor: pageParam } : {}) }), getNextPageParam: (last) => last.next_cursor,
  });
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <section aria-label="What changed">
      <h2>What changed</h2>
      {pages.isPending ? <Loading rows={2} /> : pages.isError ? <Failure error={pages.error} retry={() => void pages.refetch()} /> : items.length === 0 ? <p>It has read the same since it was first read.</p> : (
        <Scroll tabIndex={0} role="region" aria-label="Table of changes">
          <Plain>
            <thead><tr><th>Read</th><th>What</th><th>Before</th><th>After</th></tr></thead>
            <tbody>{items.flatMap((r) => [
              ...r.changes.map((c, i) => (
                <tr key={r.until + String(i)}>
                  <td>{i === 0 && moment(r.until)}</td>
                  <td>{c.what} <code>{c.which}</code>{c.spot !== undefined && <> <Spot server={name} spot={c.spot} /></>}</td>
                  <td><small>{c.before ?? 'not there'}</small></td>
                  <td><small>{c.after ?? 'gone'}</small></td>
                </tr>
              )),
              ...(r.further > 0 ? [<tr key={r.until}><td /><td colSpan={3}>and {r.further} more</td></tr>] : []),
            ])}</tbody>
          </Plain>
        </Scroll>
      )}
      {pages.hasNextPage && <Bar><Button isDisabled={pages.isFetchingNextPage} onPress={() => void pages.fetchNextPage()}>Show earlier ones</Button></Bar>}
    </section>
  );
}

function SiteRow({ server, site }: { server: string; site: Site }) {
  return (
    <tr>
      <td>
        <ul>{site.names.slice(0, 8).map((n) => <li key={n} className="host">{n || <em>without a name</em>}</li>)}</ul>
        {site.names.length === 0 && <em>without a name</em>}
        {site.name_count > 8 && <small>and {site.name_count - 8} more</small>}
        <Spot server={server} spot={site.spot} />
        {!site.in_force && <small className="bad">not switched on</small>}
        {site.default_at.length > 0 && <small>default at {site.default_at.slice(0, 3).join(', ')}</small>}
      </td>
      <td className="n"><ul>{site.listens.map((l) => <li key={l}><code>{l}</code></li>)}</ul></td>
      <td>
        {site.certificates.map((c) => <CertificateLine key={c.spot} server={server} c={c} />)}
        {site.refuses && <p>refuses handshakes</p>}
        {site.certificates.length === 0 && site.in_force && site.plain.some((p) => !p.front.startsWith('redirects')) && <ToHttps server={server} host={site.plain[0]?.host ?? ''} />}
        {site.certificates.length === 0 && site.plain.map((p) => (
          <p key={p.listener + p.host}>
            {site.plain.length > 1 && <><code>{p.host}</code>: </>}{p.front}
            {p.well_known !== p.front && <small className={p.well_known_hidden ? 'bad' : ''}>for a CA: {p.well_known}</small>}
          </p>
        ))}
        {site.hops.map((h) => <HopLines key={h.spot + h.to} server={server} hop={h} />)}
      </td>
    </tr>
  );
}

/** Where a site passes requests on to, and what a look from the server brought there. */
function HopLines({ server, hop }: { server: string; hop: Hop }) {
  const guard = hop.tls ? hop.checked ? ', over TLS and verified' : ', over TLS that nobody verifies' : ', without TLS';
  return (
    <div>
      <small>passes on to <code>{hop.to}</code>{guard}</small> <Spot server={server} spot={hop.spot} />
      {hop.looks.slice(0, 8).map((l) => (
        <small key={l.address + (l.host ?? '')} className={l.state === 'fails' ? 'bad' : ''}>
          {hopWords[l.state]} at {l.address}{l.host !== undefined && ` for ${l.host}`}: {l.sha256 === undefined ? l.said : <Link to={`/certificates/${l.sha256}`}>{l.said}</Link>}
        </small>
      ))}
      {hop.looks.length > 8 && <small>and {hop.looks.length - 8} more</small>}
    </div>
  );
}

const hopWords = { fine: 'fine', fails: 'fails', unwatched: 'wrong, and nobody looks', unknown: 'not known' };

/** Begins to take a plain site to https; its own page shows what that needs. */
function ToHttps({ server, host }: { server: string; host: string }) {
  const may = useMay('operator');
  const go = useNavigate();
  const [says, setSays] = useState('');
  if (!may || host === '') return null;
  const begin = () => void beginHttps(server, host).then((v) => go(`/https/${v.number}`)).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); });
  return <><Button aria-label={`Take to https: ${host}`} onPress={begin}>Take to https</Button>{says && <p className="bad" role="alert">{says}</p>}</>;
}

function CertificateLine({ server, c }: { server: string; c: Schemas['SiteCertificate'] }) {
  return (
    <div>
      {c.sha256 ? <><Link to={`/certificates/${c.sha256}`}>{c.common_name}</Link>, {left(c.days_left ?? 0)}, from {c.issuer}</> : <span className="bad">{c.fault}</span>}
      <small><Spot server={server} spot={c.spot} /> {c.file.split('/').pop()}</small>
      {c.key_state === 'stranger' ? <small className="bad">its key belongs to another certificate</small> : c.key_state !== 'fits' && <small>its key: {c.key_state}</small>}
    </div>
  );
}

const Ask = styled.form`
  display: flex; flex-wrap: wrap; gap: ${space(3)}; align-items: center; margin: ${space(3)} 0;
  input { font: 15px ${font.text}; color: ${color.ink}; background: ${color.raised}; border: 1px solid ${color.soft}; border-radius: 3px; padding: ${space(2)} ${space(3)}; min-width: 300px; min-height: 36px; }
  ${narrow} { input { min-width: 0; width: 100%; } }
`;

/** Which site answers for a host at each listener, and why. */
function Who({ name }: { name: string }) {
  const [params, setParams] = useSearchParams();
  const host = params.get('host') ?? '';
  const [typed, setTyped] = useState(host);
  const q = api.useQuery('get', '/servers/{name}/answers', { params: { path: { name }, query: { host } } }, { enabled: host !== '', retry: false });
  return (
    <section aria-label="Who answers">
      <h2>Who answers?</h2>
      <Ask onSubmit={(e) => { e.preventDefault(); setParams((p) => { if (typed.trim()) p.set('host', typed.trim()); else p.delete('host'); return p; }, { replace: true }); }}>
        <input aria-label="Host name" placeholder="A host name, to see which site takes it" value={typed} onChange={(e) => setTyped(e.target.value)} />
        <Button type="submit">Ask</Button>
      </Ask>
      {host && q.isError && <p className="bad" role="alert">{(q.error as { detail?: string }).detail}</p>}
      {host && q.data && notJustNow(q.data.read_at) && <p>Its configuration cannot be read now; this is how it was {moment(q.data.read_at)}.</p>}
      {host && q.data && (
        <Scroll tabIndex={0} role="region" aria-label="Answers">
          <Plain>
            <thead><tr><th>Listener</th><th>Site</th><th>Why</th></tr></thead>
            <tbody>
              {q.data.items.map((a) => (
                <tr key={a.listener}>
                  <td className="n"><code>{a.listener}</code><small>{a.tls ? 'TLS' : 'plain http'}</small></td>
                  <td>{a.site ? <>{a.site.names[0] ?? 'without a name'} <Spot server={name} spot={a.site.spot} /></> : 'none'}</td>
                  <td>{a.why}{a.plain && <small>{a.plain.front}</small>}</td>
                </tr>
              ))}
            </tbody>
          </Plain>
        </Scroll>
      )}
    </section>
  );
}

function Listeners({ d }: { d: Detail }) {
  return (
    <section aria-label="Listeners">
      <h2>{plural(d.listeners.length, 'listener')}</h2>
      <Scroll tabIndex={0} role="region" aria-label="Table of listeners">
        <Plain>
          <thead><tr><th>Address and port</th><th>Speaks</th><th>Sites</th><th>Answers when no name fits</th><th>Opened at</th></tr></thead>
          <tbody>
            {d.listeners.map((l) => (
              <tr key={l.protocol + l.address}>
                <td className="n"><code>{l.address}</code></td><td className="n">{l.tls ? 'TLS' : 'plain'} {l.protocol}</td><td>{l.sites}</td>
                <td>{l.default_site}{!l.chosen && <small>the first, none is declared</small>}</td><td><Spot server={d.server.name} spot={l.spot} /></td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </section>
  );
}

function Problems({ d }: { d: Detail }) {
  return (
    <section aria-label="Problems">
      <h2>{plural(d.problems.length, 'problem')} in the configuration</h2>
      <Scroll tabIndex={0} role="region" aria-label="Table of problems">
        <Plain>
          <thead><tr><th>What</th><th>Means</th><th>Where</th></tr></thead>
          <tbody>
            {d.problems.map((p, i) => (
              <tr key={i}>
                <td>{p.message}{p.expected && <small>expected {p.expected}</small>}</td>
                <td>{{ refused: 'the server will not take it', unread: 'not known from here', suspect: 'taken, though hardly as meant' }[p.effect]}</td>
                <td><Spot server={d.server.name} spot={`${p.file}:${p.line}`} /></td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </section>
  );
}
