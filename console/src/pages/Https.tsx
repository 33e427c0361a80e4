import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { moment } from '../data/format';
import { continueHttps, standing, useHttps, useHttpsRuns, waits, type HttpsRun } from '../data/https';
import { useInstallation } from '../data/installations';
import { Bar, Button, Plain, Scroll } from '../parts/Controls';
import { Diffs } from '../parts/Diffs';
import { Preflight } from '../parts/Preflight';
import { Empty, Failure, Loading } from '../parts/States';
import { Steps } from '../parts/Steps';
import { color, font, radius, space } from '../theme/tokens';
import { Changes, Notes } from './Installation';
import { OrderSteps } from './Mandate';
import { Standing } from './Mandates';

const Part = styled.section`
  margin-top: ${space(7)}; h2 { font-size: 20px; margin-bottom: ${space(3)}; } .wrap { overflow-wrap: anywhere; }
  ul { margin: ${space(2)} 0; padding-left: ${space(6)}; li { overflow-wrap: anywhere; } }
  pre { margin: 0; padding: ${space(3)} ${space(4)}; border: 1px solid ${color.line}; border-radius: ${radius}; background: ${color.raised}; overflow-x: auto; font: 15px/1.5 ${font.mono}; }
`;

const Title = styled.h1`overflow-wrap: anywhere; margin-bottom: ${space(4)};`;

/** One site on its way to https: what it needs, what was done, and what it waits for. */
export function HttpsPage() {
  const number = Number(useParams().number);
  const q = useHttps(number);
  if (q.isPending) return <Loading />;
  if (q.isError) return (q.error as Problem).status === 404 ? <Empty page title="No such run"><p>{(q.error as Problem).detail}</p></Empty> : <Failure error={q.error} retry={() => void q.refetch()} />;
  const v = q.data;
  const [kind, text] = standing(v);
  return (
    <>
      <Title>{v.host} to https on {v.server}</Title>
      <Standing $kind={kind}>{text}</Standing>
      {v.next && <p>→ {v.next}</p>}
      <p>Begun {moment(v.begun_at)} by {v.by}. <Link to={`/servers/${encodeURIComponent(v.server)}`}>{v.server}</Link>{v.mandate && <>, mandate <Link to={`/mandates/${v.mandate}`}>{v.mandate}</Link></>}</p>
      <Agree v={v} />
      {v.installation !== undefined && <Installed number={v.installation} soon={v.state === 'installing' || v.state === 'done'} />}
      <Prepared v={v} />
      {v.order !== undefined && <OrderSteps number={v.order} />}
      {v.trials.length > 0 && <Preflight items={v.trials} />}
      <Names v={v} />
    </>
  );
}

/** The button that goes on with what is shown below it. */
function Agree({ v }: { v: HttpsRun }) {
  const operator = useMay('operator');
  const admin = useMay('admin');
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (!waits(v)) return null;
  const drafts = v.state === 'drafted' && v.draft !== '';
  if (!operator || (drafts && !admin)) return <p>{drafts ? 'An admin makes the mandate; ask one to open this page.' : 'An operator goes on from here.'}</p>;
  const go = () => {
    setBusy(true);
    setSays('');
    void continueHttps(v.number).catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Bar><Button $main isDisabled={busy} onPress={go}>{v.state === 'previewed' ? `Install this on ${v.server}` : v.state === 'prepared' ? `Prepare ${v.server} so` : drafts ? (v.widens ? 'Have it hold these names, and order' : 'Make this mandate, and order') : 'Order'}</Button></Bar>
      {says && <Standing as="p" role="alert" $kind="failed">{says}</Standing>}
    </>
  );
}

/** What the server needs before the CA is asked: the change, or how it went. */
function Prepared({ v }: { v: HttpsRun }) {
  if (!v.preparation) return null;
  const { files, steps, acts, notes } = v.preparation;
  const of = (does: string) => acts.filter((a) => a.does === does);
  return (
    <Part aria-label="Preparation" aria-live="polite">
      <h2>{v.state === 'prepared' ? 'What will change, so that the server serves what the CA asks for' : 'The server was prepared'}</h2>
      {v.state === 'prepared' && <>{of('link').map((a) => <p key={a.what}>The site is written and not in force. A link switches it on: <code>{a.what}</code></p>)}{files.length > 0 && <p>A rule of the site stands before what the CA will ask for. The lines below let it through.</p>}<p>The server tests this first ({of('test').map((a) => <code key={a.what}>{a.what}</code>)}), then takes it in ({of('reload').map((a) => <code key={a.what}>{a.what}</code>)}). It stays so.</p><Notes v={{ notes, acts, server: v.server }} /><Diffs files={files} /></>}
      {steps.length > 0 && <Steps steps={steps} />}
    </Part>
  );
}

function Names({ v }: { v: HttpsRun }) {
  return (
    <Part aria-label="Names">
      <h2>The site's names</h2>
      <ul>{v.names.map((n) => <li key={n}>{n}</li>)}</ul>
      {v.advice.map((a) => <p key={a}>{a}</p>)}
      {v.draft ? <><h2>{v.widens ? 'The mandate, with more names' : 'A mandate for them'}</h2>{v.widens && <p><Link to={`/mandates/${v.mandate}`}>{v.mandate}</Link> is for {v.widens.join(', ')} so far.</p>}<pre tabIndex={0}>{v.draft}</pre></> : v.state === 'drafted' && <p>The mandate <Link to={`/mandates/${v.mandate}`}>{v.mandate}</Link> is for them already.</p>}
    </Part>
  );
}

/** The installation of a run: its preview, or its steps. */
function Installed({ number, soon }: { number: number; soon: boolean }) {
  const q = useInstallation(number, soon);
  if (q.isError) return <Failure what="The installation" error={q.error} retry={() => void q.refetch()} />;
  if (!q.data) return null;
  const v = q.data;
  return (
    <>
      {v.steps.length > 0 && <Part aria-label="Installation" aria-live="polite"><h2><Link to={`/installations/${v.number}`}>Installation {v.number}</Link></h2><Steps steps={v.steps} /></Part>}
      {v.state === 'previewed' && <><Changes v={v} /><Notes v={v} /><Diffs files={v.files} /></>}
    </>
  );
}

/** The last sites taken to https, those that wait first. */
export function HttpsRuns() {
  const q = useHttpsRuns();
  if (q.isError) return <Part aria-label="Sites to https"><Failure what="What was taken to https" error={q.error} retry={() => void q.refetch()} /></Part>;
  if (!q.data || q.data.items.length === 0) return null;
  const items = [...q.data.items].sort((a, b) => Number(waits(b)) - Number(waits(a)));
  return (
    <Part aria-label="Sites to https">
      <h2>Sites taken to https</h2>
      <Scroll tabIndex={0} role="region" aria-label="List of sites taken to https">
        <Plain>
          <thead><tr><th>Site</th><th>Server</th><th>Begun</th><th>State</th></tr></thead>
          <tbody>
            {items.map((v) => (
              <tr key={v.number}><td><Link to={`/https/${v.number}`}>{v.host}</Link></td><td>{v.server}</td><td className="n">{moment(v.begun_at)}</td><td className="wrap">{standing(v)[1]}</td></tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
    </Part>
  );
}
