import { useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem, Schemas } from '../data/client';
import { plural } from '../data/format';
import { beginHttps } from '../data/https';
import { addHost } from '../data/hosts';
import { beginInstallation, changed, standing, useInstallation, useMending, type Installation, type MendRequest } from '../data/installations';
import { useStartSurvey } from '../data/surveys';
import { Bar, Button, Plain } from '../parts/Controls';
import { Empty, Failure, Loading } from '../parts/States';
import { color, space } from '../theme/tokens';
import { Standing } from './Mandates';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } .wrap { overflow-wrap: anywhere; }
  > ul { list-style: none; margin: 0; padding: 0; display: grid; gap: ${space(5)}; }
  h3 { font-size: 18px; } li ul { margin: ${space(2)} 0; padding-left: ${space(5)}; } li { overflow-wrap: anywhere; } small { color: ${color.soft}; font-size: 14px; }
`;

/** What is meant, by the page's address. */
function requested(q: URLSearchParams): MendRequest {
  const findings = q.getAll('finding').map(Number).filter((n) => n > 0);
  return { ...(findings.length > 0 && { findings }), ...Object.fromEntries(['server', 'code', 'host'].flatMap((k) => { const v = q.get(k); return v ? [[k, v]] : []; })) };
}

/** How several findings are mended: what goes by itself, what needs a certificate first, and what a person does. */
export function Mending() {
  const [params] = useSearchParams();
  const q = useMending(requested(params));
  const may = useMay('operator');
  if (!may) return <Empty page title="For operators"><p>Mending is for operators and admins. What is found is on <Link to="/">Today</Link>.</p></Empty>;
  if (q.isPending) return <Loading />;
  if (q.isError) return q.error.status === 409 ? <Empty page title="Nothing to mend"><p>{q.error.detail}.</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const { installations, renewals, taken, left } = q.data;
  return (
    <>
      <h1>{sentence(q.data)}</h1>
      <All list={installations} />
      {installations.length > 0 && <Part aria-label="Mends itself"><h2>Mends itself, with one test and one reload a server</h2><ul>{installations.map((v) => <OnServer key={v.number} number={v.number} alone={installations.length === 1} />)}</ul></Part>}
      {renewals.length > 0 && <Part aria-label="Needs a certificate first"><h2>Needs a certificate first</h2><ul>{renewals.map((r) => <Renewal key={`${r.server} ${r.host}`} r={r} />)}</ul></Part>}
      {taken.length > 0 && <Part aria-label="Taken into the estate"><h2>Taken into the estate, and looked at from then on</h2><ul>{taken.map((h) => <Taken key={h.about.finding} h={h} />)}</ul></Part>}
      {left.length > 0 && (
        <Part aria-label="For a person">
          <h2>For a person</h2>
          <Plain>
            <thead><tr><th scope="col">Finding</th><th scope="col">Why it does not mend itself, and what to do</th></tr></thead>
            <tbody>{left.map((l) => <tr key={l.about.finding}><th scope="row">{l.about.finding}</th><td className="wrap"><strong>{l.about.host || l.about.server}</strong>, <code>{l.about.code}</code>: {l.reason}<br />→ {l.next}</td></tr>)}</tbody>
          </Plain>
        </Part>
      )}
    </>
  );
}

/** How a plan stands, in one sentence. */
function sentence({ installations, renewals, taken, left }: Schemas['MendPlan']): string {
  const mends = installations.reduce((n, v) => n + v.mends.length, 0);
  const needs = renewals.reduce((n, r) => n + r.findings.length, 0);
  const parts = [
    mends > 0 && `${plural(mends, 'finding')} ${mends === 1 ? 'mends itself' : 'mend themselves'} on ${plural(installations.length, 'server')}`,
    needs > 0 && `${needs} ${needs === 1 ? 'needs' : 'need'} a certificate first`,
    taken.length > 0 && `${plural(taken.length, 'host')} ${taken.length === 1 ? 'is' : 'are'} to be taken in`,
    left.length > 0 && `${left.length} ${left.length === 1 ? 'is' : 'are'} for a person`,
  ].filter(Boolean);
  return parts.length > 0 ? `${parts.join(', ')}.` : 'Nothing is to be mended.';
}

/** Begins everything that was worked out. */
function All({ list }: { list: Installation[] }) {
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (list.length < 2) return null;
  const begin = async () => {
    for (const v of list) await beginInstallation(v.number).catch((e: unknown) => { setSays((s) => `${s}${v.server}: ${(e as Partial<Problem>).detail ?? 'the service does not answer'}. `); });
    await changed();
  };
  return (
    <>
      <Bar><Button $main isDisabled={busy} onPress={() => { setBusy(true); void begin(); }}>Mend on all {list.length} servers</Button></Bar>
      {says && <Standing role="alert" $kind="failed">Not begun on {says}</Standing>}
    </>
  );
}

/** What is mended on one server, and how that goes. */
function OnServer({ number, alone }: { number: number; alone: boolean }) {
  const q = useInstallation(number, true);
  const [says, setSays] = useState('');
  if (q.isPending) return <li><Loading /></li>;
  if (q.isError) return <li><Standing $kind="failed">{(q.error as Problem).detail}</Standing></li>;
  const v = q.data;
  const [kind, text] = standing(v);
  const begin = () => { setSays(''); void beginInstallation(number).then(changed).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }); };
  return (
    <li>
      <Standing as="div" $kind={says ? 'failed' : kind} aria-live="polite">
        <h3>{v.server}</h3>
        {says || text}
        <ul>{v.mends.map((f) => <li key={f.finding}>{f.host || v.server}, <code>{f.code}</code>: {f.does}</li>)}</ul>
        <Link to={`/installations/${v.number}`}>{v.files.length > 0 ? `${plural(v.files.length, 'file')}, each command, and where it is looked at` : 'Each command, and where it is looked at'}</Link>
        {v.state === 'previewed' && <Bar><Button $main={alone} onPress={begin}>Mend {v.server}</Button></Bar>}
      </Standing>
    </li>
  );
}

/** A host that is taken to a new certificate, step by step. */
function Renewal({ r }: { r: Schemas['Renewal'] }) {
  const go = useNavigate();
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  const begin = () => { setBusy(true); void beginHttps(r.server, r.host, r.mandate).then((v) => go(`/https/${v.number}`)).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); setBusy(false); }); };
  return (
    <li>
      <Standing as="div" $kind={says ? 'failed' : 'never'}>
        <h3>{r.host}</h3>
        on {r.server}, {r.mandate ? <>by the mandate <Link to={`/mandates/${r.mandate}`}>{r.mandate}</Link></> : 'by a mandate that is made for it'}: <code>{r.findings.map((f) => f.code).join(', ')}</code>
        {says && <p role="alert">{says}</p>}
        <Bar><Button isDisabled={busy} onPress={begin}>Take it to a new certificate</Button></Bar>
      </Standing>
    </li>
  );
}

/** A name a server has, taken into the estate when that is said of it. */
function Taken({ h }: { h: Schemas['TakenHost'] }) {
  const admin = useMay('admin');
  const survey = useStartSurvey();
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState<['fine' | 'failed', string]>();
  const take = async () => {
    await addHost({ name: h.host, at: h.at });
    const v = await survey.mutateAsync({ body: { server: h.about.server } });
    setSays(['fine', `taken in; survey ${v.id} looks at it`]);
  };
  const press = () => { setBusy(true); void take().catch((e: unknown) => { const p = e as Partial<Problem>; setSays(['failed', [p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')]); setBusy(false); }); };
  return (
    <li>
      <Standing as="div" $kind={says?.[0] ?? 'never'} aria-live="polite">
        <h3>{h.host}</h3>
        at {h.at.join(', ')}{says && <>: {says[0] === 'fine' ? <Link to={`/bindings?q=${encodeURIComponent(h.host)}`}>{says[1]}</Link> : says[1]}</>}
        {admin ? says?.[0] !== 'fine' && <Bar><Button isDisabled={busy} onPress={press}>Take it in</Button></Bar> : <p>An admin takes it in.</p>}
      </Standing>
    </li>
  );
}
